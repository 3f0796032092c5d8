"""Baking, packing and proving over HTTP: forecasts, what is lost, profiles, received maps, archives."""

from __future__ import annotations

import json
import zipfile
from io import BytesIO
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from silent_loom.core.delivery.proving.receiver import MISTAKES
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import read
from tests.web.test_api import change, client, material, wait  # noqa: F401


def made(client: TestClient, material: dict[str, Any], **order: Any) -> dict[str, Any]:  # noqa: F811
    job = client.post(f"/api/materials/{material['id']}/deliver", json={"size": 128, **order})
    assert job.status_code == 202, job.text
    done = wait(client, job.json()["id"])
    assert done["state"] == "done", done
    return done["result"]


def taken_out(client: TestClient, delivery: str, folder: Any) -> dict[str, Any]:  # noqa: F811
    with zipfile.ZipFile(BytesIO(client.get(f"/api/deliveries/{delivery}/file").content)) as z:
        for info in z.infolist():
            (folder / info.filename.rpartition("/")[2]).write_bytes(z.read(info))
    return json.loads((folder / "manifest.json").read_text())


def test_a_bake_is_told_before_it_is_begun(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    path = f"/api/materials/{material['id']}"
    told = client.post(f"{path}/forecast", json={"profile": "plain", "size": 256}).json()
    states = {m["thread"]: m["state"] for m in told["maps"]}
    assert states["base"] == states["normal"] == states["height"] == "carries"
    assert max(told["size"]) == 256
    assert told["fits_memory"]
    result = made(client, material, profile="plain", size=256)
    files = {f["file"]: f for f in result["manifest"]["files"] if f.get("channels")}
    pictures = [f for f in told["files"] if f["width"]]
    assert {f["file"] for f in pictures} == set(files)
    whole = client.get(f"/api/deliveries/{result['delivery']}/file").content
    assert told["disk"] == pytest.approx(len(whole), rel=0.6), "with what lies beside the pictures"
    for f in pictures:
        assert [f["width"], f["height"]] == files[f["file"]]["size"]
        assert f["bytes"] == pytest.approx(files[f["file"]]["bytes"], rel=0.02), "at the size of the quick bake it is no guess"
    level = {n: s for n, s in states.items() if s == "constant"}
    skipped = client.post(f"{path}/forecast", json={"profile": "plain", "size": 256, "skip_constant": True}).json()
    assert {f["file"] for f in skipped["files"] if f["skipped"]} == {
        f"{material['name'].lower().replace(' ', '_')}_{n}.png" for n in level
    }
    huge = client.post(f"{path}/forecast", json={"profile": "plain", "size": 16384, "supersample": 4}).json()
    assert not huge["fits_memory"]
    refused = client.post(f"{path}/deliver", json={"profile": "plain", "size": 16384, "supersample": 4})
    assert refused.status_code == 422
    assert "GB of memory" in refused.json()["error"]
    assert client.post(f"{path}/forecast", json={"profile": "plain", "size": 256, "supersample": 3}).status_code == 422


def test_what_is_lost_grows_as_the_size_goes_down(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    path = f"/api/materials/{material['id']}"
    shares = []
    for size in (32, 64, 128):
        told = client.post(f"{path}/losses", json={"profile": "plain", "size": size}).json()
        shares.append({m["thread"]: m["share"] for m in told["maps"]})
    assert all(shares[0][n] > shares[1][n] > shares[2][n] for n in ("base", "normal"))
    whole = client.post(f"{path}/losses", json={"profile": "plain", "size": told["reference"]}).json()
    assert all(m["share"] == 0 for m in whole["maps"])
    lost = client.post(f"{path}/losses", json={"profile": "plain", "size": 32}).json()["maps"][0]
    assert lost["live"].startswith("data:image/png")
    assert lost["live"] != lost["baked"]


def test_a_smaller_set_is_made_from_an_earlier_bake(client: TestClient, material: dict[str, Any], tmp_path: Any) -> None:  # noqa: F811
    master = made(client, material, profile="master", size=256)
    change(client, material, kind="add", step="tone", settings={"brightness": 2}, to=99)
    small = made(client, material, profile="plain", size=128, source=master["delivery"])
    assert small["manifest"]["made_from"] == master["file"]
    assert small["manifest"]["state"] == material["head"], "that of the bake, whatever the material is now"
    (tmp_path / "a").mkdir()
    manifest = taken_out(client, small["delivery"], tmp_path / "a")
    assert max(manifest["size"]) == 128
    too_large = client.post(
        f"/api/materials/{material['id']}/deliver", json={"profile": "plain", "size": 512, "source": master["delivery"]}
    )
    assert wait(client, too_large.json()["id"])["error"].startswith(master["file"])


def test_light_in_the_colour_is_a_choice_and_proved(client: TestClient, material: dict[str, Any], tmp_path: Any) -> None:  # noqa: F811
    plain, lit = made(client, material), made(client, material, lit=True)
    assert lit["manifest"]["lit"]
    for name, result in (("plain", plain), ("lit", lit)):
        (tmp_path / name).mkdir()
        taken_out(client, result["delivery"], tmp_path / name)
    base = next(f["file"] for f in lit["manifest"]["files"] if f["file"].endswith("basecolor.png"))
    one, other = (read(tmp_path / n / base).colour() for n in ("plain", "lit"))
    assert np.abs(one - other).mean() > 0.01
    assert np.corrcoef(one.mean(2).ravel(), other.mean(2).ravel())[0, 1] > 0.5
    done = wait(client, client.post(f"/api/deliveries/{lit['delivery']}/proof").json()["id"])
    assert done["result"]["same"], done["result"]


def test_supersampling_is_proved_against_what_was_asked(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    result = made(client, material, supersample=2, profile="master")
    assert result["manifest"]["supersample"] == 2
    done = wait(client, client.post(f"/api/deliveries/{result['delivery']}/proof").json()["id"])
    assert done["result"]["same"], done["result"]


def test_received_maps_and_mistakes_made_on_purpose(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    result = made(client, material, profile="gltf")
    path = f"/api/deliveries/{result['delivery']}"
    plain = client.post(f"{path}/map", json={"thread": "normal", "size": 128})
    assert plain.status_code == 200
    wrong = client.post(f"{path}/map", json={"thread": "normal", "size": 128, "mistake": "green"})
    a, b = (np.frombuffer(r.content, np.uint8).reshape(-1, 4).astype(int) for r in (plain, wrong))
    assert np.abs(a[:, 1] + b[:, 1] - 255).max() <= 1
    assert (a[:, [0, 2]] == b[:, [0, 2]]).all()
    assert client.post(f"{path}/map", json={"thread": "height", "size": 128}).status_code == 409
    assert client.post(f"{path}/map", json={"thread": "normal", "mistake": "nothing"}).status_code == 422
    form = client.post(f"{path}/form", json={"size": 64, "mistake": "smoothness"})
    live = client.post(f"/api/materials/{material['id']}/form", json={"size": 64})
    assert len(form.content) == len(live.content)
    away = client.post(
        f"/api/materials/{material['id']}/difference",
        json={"thread": "normal", "size": 128, "other": {"delivery": result["delivery"], "mistake": "green"}},
    )
    assert json.loads(away.headers["x-facts"])["mean"] > 1
    same = client.post(
        f"/api/materials/{material['id']}/difference",
        json={"thread": "normal", "size": 128, "other": {"delivery": result["delivery"]}},
    )
    assert json.loads(same.headers["x-facts"])["mean"] < 0.6
    done = wait(client, client.post(f"{path}/proof").json()["id"])["result"]
    assert set(done["mistakes"]) == set(MISTAKES)
    assert all(v > 0 for n, v in done["mistakes"].items() if n != "metallic-inverted")


def test_a_changed_file_makes_the_proof_fail_and_is_named(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    result = made(client, material)
    path = client.app.state.store.folder / "deliveries" / result["file"]  # type: ignore[attr-defined]
    with zipfile.ZipFile(path) as z:
        inside = {n: z.read(n) for n in z.namelist()}
    rough, occlusion = (next(n for n in inside if n.endswith(f"{m}.png")) for m in ("_roughness", "_occlusion"))
    inside[rough] = inside[occlusion]
    with zipfile.ZipFile(path, "w") as z:
        for name, body in inside.items():
            z.writestr(name, body)
    done = wait(client, client.post(f"/api/deliveries/{result['delivery']}/proof").json()["id"])["result"]
    assert not done["same"]
    assert done["damaged"] == [rough.rpartition("/")[2]]
    assert done["responsible"] == "roughness"
    assert next(m for m in done["maps"] if m["map"] == "roughness")["mistake"] == "it holds occlusion"


def test_deliveries_are_kept_until_thrown_away(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    results = [made(client, material), made(client, material)]
    assert results[0]["file"] != results[1]["file"]
    assert [r["manifest"]["version"] for r in results] == [1, 2]
    assert client.delete(f"/api/deliveries/{results[0]['delivery']}").status_code == 204
    assert client.get(f"/api/deliveries/{results[0]['delivery']}/file").status_code == 404
    assert client.delete(f"/api/deliveries/{results[0]['delivery']}").status_code == 404
    left = client.get(f"/api/materials/{material['id']}/deliveries").json()["deliveries"]
    assert [d["id"] for d in left] == [results[1]["delivery"]]


def test_profiles_are_tried_kept_shared_and_used(client: TestClient, material: dict[str, Any], tmp_path: Any) -> None:  # noqa: F811
    path = f"/api/materials/{material['id']}"
    mine = profile("plain").model_dump(mode="json")
    mine |= {"name": "quay", "title": "Quay", "pattern": "{material}-{map}", "limits": {**mine["limits"], "files": 3}}
    tried = client.post(f"{path}/tried", json={"profile": mine, "size": 512}).json()
    assert not tried["fits"]
    assert tried["lines"][0]["has"] == "6"
    assert all(f["picture"].startswith("data:image/png") and f["memory"] > f["blocks"] for f in tried["files"])
    better = next(p["profile"] for p in tried["proposals"] if "in one file" in p["title"])
    again = client.post(f"{path}/tried", json={"profile": better, "size": 512}).json()
    assert len(again["files"]) == len(tried["files"]) - 2
    assert again["saved"]["files"] == 2
    assert client.post("/api/profiles", json=mine).status_code == 201
    assert client.post("/api/profiles", json=mine).status_code == 422, "nothing is overwritten unless asked"
    assert client.post("/api/profiles?replace=true", json=mine).status_code == 201
    assert client.post("/api/profiles", json={**mine, "name": "plain"}).status_code == 422
    assert client.post("/api/profiles", json={**mine, "name": "x", "pattern": "{material}"}).status_code == 422
    shared = client.get("/api/profiles/quay.json")
    assert json.loads(shared.content)["pattern"] == "{material}-{map}"
    assert client.delete("/api/profiles/quay").status_code == 204
    taken = client.post("/api/profiles/open", files={"file": ("quay.json", shared.content, "application/json")})
    assert taken.status_code == 201, taken.text
    broken = client.post(
        "/api/profiles/open", files={"file": ("quay.json", shared.content.replace(b"suffix", b"sufix", 1), "application/json")}
    )
    assert broken.status_code == 415
    assert "quay.json" in broken.json()["error"]
    listed = client.get("/api/profiles").json()
    assert {p["name"]: p["ships"] for p in listed["profiles"]}["quay"] is False
    result = made(client, material, profile="quay")
    assert all("-" in f["file"] for f in result["manifest"]["files"] if f.get("channels"))
    assert wait(client, client.post(f"/api/deliveries/{result['delivery']}/proof").json()["id"])["result"]["same"]


def test_a_material_goes_out_and_comes_in_again(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    path = f"/api/materials/{material['id']}"
    client.post(f"{path}/snapshots", json={"name": "As photographed"})
    after = change(client, material, kind="add", step="tone", settings={"brightness": 1}, to=99).json()
    archive = client.get(f"{path}/archive")
    assert archive.headers["content-disposition"].endswith('.material.zip"')
    taken = client.post("/api/archives", files={"file": ("a.material.zip", archive.content, "application/zip")}).json()
    again = client.get(f"/api/materials/{taken['id']}").json()
    assert [r["step"] for r in again["weave"]["rows"]] == [r["step"] for r in after["weave"]["rows"]]
    assert [s["name"] for s in client.get(f"/api/materials/{taken['id']}/snapshots").json()["snapshots"]] == ["As photographed"]
    for thread in ("base", "height"):
        one, other = (
            client.post(f"/api/materials/{i}/map", json={"thread": thread, "size": 128}).content
            for i in (material["id"], taken["id"])
        )
        assert one == other
    assert (
        client.post("/api/archives", files={"file": ("b.material.zip", archive.content[:500], "application/zip")}).status_code
        == 415
    )
    folder = client.app.state.store.folder / "deliveries"  # type: ignore[attr-defined]
    assert not [p for p in folder.iterdir() if p.name.startswith(".part-")], "nothing is left behind"
