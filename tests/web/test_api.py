"""The HTTP interface: guards, changes, answers, deliveries."""

from __future__ import annotations

import io
import json
import struct
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from silent_loom.core.files.png import png_bytes
from silent_loom.store.store import Store
from silent_loom.web import describe
from silent_loom.web.app import create_app
from tests.conftest import codes_of
from tests.conftest import spectrum as noise_of

PHOTO = png_bytes(codes_of(np.repeat(noise_of(128, 1.2, 1), 2, 1)), colour=True)


@pytest.fixture(scope="module")
def client(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TestClient]:
    app = create_app(Store(tmp_path_factory.mktemp("data")), warm=False)
    with TestClient(app, base_url="http://127.0.0.1:8321") as c:
        yield c


@pytest.fixture
def material(client: TestClient) -> dict[str, Any]:
    done = client.post("/api/materials", files={"photo": ("fore_deck.png", PHOTO, "image/png")})
    assert done.status_code == 201, done.text
    return done.json()


def row(material: dict[str, Any], step: str) -> dict[str, Any]:
    return next(r for r in material["weave"]["rows"] if r["step"] == step)


def change(client: TestClient, material: dict[str, Any], **body: Any) -> Any:
    return client.post(f"/api/materials/{material['id']}/change", json={"base": material["head"], **body})


def test_a_photo_becomes_a_material_with_its_weave(client: TestClient, material: dict[str, Any]) -> None:
    assert material["name"] == "Fore deck"
    assert [r["step"] for r in material["weave"]["rows"]][:4] == ["photo", "straighten", "light", "seamless"]
    assert row(material, "height")["knots"] == {"base": "reads", "height": "writes"}
    assert row(material, "seamless")["knots"] == {"base": "carries"}
    assert row(material, "light")["knots"] == {"base": "both"}
    listed = client.get("/api/materials").json()["materials"]
    assert material["id"] in [m["id"] for m in listed]


def test_pages_are_served_with_a_strict_policy(client: TestClient, material: dict[str, Any]) -> None:
    for path in ("/", f"/bench/{material['id']}"):
        done = client.get(path)
        assert done.status_code == 200
        policy = done.headers["content-security-policy"]
        assert "script-src 'self'" in policy
        assert "unsafe" not in policy
        assert "http://" not in done.text.replace("http://www.w3.org", "")
        assert "https://" not in done.text
    assert client.get("/bench/none").status_code == 404


@pytest.mark.parametrize(("headers", "status"), [
    ({"host": "evil.example"}, 403), ({"host": "127.0.0.1.evil.example:8321"}, 403), ({"origin": "http://evil.example"}, 403), ({"origin": "null"}, 403),
    ({"origin": "http://127.0.0.1:9999"}, 403), ({"sec-fetch-site": "cross-site"}, 403), ({"origin": "http://127.0.0.1:8321"}, 200), ({}, 200),
])  # fmt: skip
def test_writes_check_origin_and_host(client: TestClient, material: dict[str, Any], headers: dict[str, str], status: int) -> None:
    done = client.post(f"/api/materials/{material['id']}/rename", json={"name": "Renamed"}, headers=headers)
    assert done.status_code == status
    name = client.get(f"/api/materials/{material['id']}").json()["name"]
    assert (name == "Renamed") == (status == 200)


def test_reads_check_the_host_too(client: TestClient) -> None:
    assert client.get("/", headers={"host": "evil.example"}).status_code == 403


@pytest.mark.parametrize(
    ("name", "body"),
    [("x.png", b"not a picture at all"), ("x.png", b""), ("x.jpg", PHOTO), ("../../x.png", b"\x89PNG\r\n\x1a\nbroken")],
)
def test_bad_uploads_say_what_is_wrong_and_leave_nothing(client: TestClient, name: str, body: bytes) -> None:
    before = len(client.get("/api/materials").json()["materials"])
    done = client.post("/api/materials", files={"photo": (name, body, "image/png")})
    assert done.status_code == 415
    assert done.json()["error"].startswith(name.split("/")[-1])
    assert len(client.get("/api/materials").json()["materials"]) == before


def test_one_change_is_one_entry_and_undo_takes_it_back(client: TestClient, material: dict[str, Any]) -> None:
    height = row(material, "height")["id"]
    after = change(client, material, kind="settings", step_id=height, settings={"depth_mm": 4.0}).json()
    assert row(after, "height")["settings"]["depth_mm"] == 4
    assert after["label"] == "Height: Depth 4"
    same = change(client, after, kind="settings", step_id=height, settings={"depth_mm": 4.0}).json()
    assert same["head"] == after["head"], "what changes nothing is no entry"
    back = client.post(f"/api/materials/{material['id']}/undo").json()
    assert back["head"] == material["head"]
    assert back["can_redo"]
    history = client.get(f"/api/materials/{material['id']}/history").json()["entries"]
    assert [h["label"] for h in history] == ["Height: Depth 4", "Begun from fore_deck.png"]


def test_rows_can_be_moved_switched_added_and_removed(client: TestClient, material: dict[str, Any]) -> None:
    normal = row(material, "normal")["id"]
    off = change(client, material, kind="switch", step_id=normal, on=False).json()
    assert not row(off, "normal")["on"]
    moved = change(client, off, kind="move", step_id=normal, to=0).json()
    assert moved["weave"]["rows"][0]["step"] == "normal"
    added = change(client, moved, kind="add", step="tone", to=2).json()
    assert added["weave"]["rows"][2]["step"] == "tone"
    gone = change(client, added, kind="remove", step_id=added["weave"]["rows"][2]["id"]).json()
    assert len(gone["weave"]["rows"]) == len(material["weave"]["rows"])
    mixed = change(client, gone, kind="mix", step_id=row(gone, "tone")["id"], amount=0.5, mix="multiply", mask="roughness").json()
    assert (row(mixed, "tone")["amount"], row(mixed, "tone")["mix"], row(mixed, "tone")["mask"]["thread"]) == (
        0.5,
        "multiply",
        "roughness",
    )
    assert change(client, mixed, kind="mix", step_id=row(mixed, "seamless")["id"], amount=0.5).status_code == 422


def test_two_windows(client: TestClient, material: dict[str, Any]) -> None:
    height = row(material, "height")["id"]
    assert change(client, material, kind="settings", step_id=height, settings={"depth_mm": 3.0}).status_code == 200
    clash = change(client, material, kind="settings", step_id=height, settings={"depth_mm": 8.0})
    assert clash.status_code == 409
    assert clash.json()["conflict"]
    mine = client.post(f"/api/materials/{material['id']}/goto", json={"entry": clash.json()["kept"]}).json()
    assert row(mine, "height")["settings"]["depth_mm"] == 8


@pytest.mark.parametrize(("body", "words"), [
    ({"kind": "settings", "settings": {"depth_mm": -2}}, "height.depth_mm"), ({"kind": "settings", "settings": {"deepness": 2}}, "height.deepness"),
    ({"kind": "add", "step": "nothing"}, "no step called"), ({"kind": "photo", "digest": "0" * 64}, ""),
])  # fmt: skip
def test_wrong_changes_are_refused_and_change_nothing(
    client: TestClient, material: dict[str, Any], body: dict[str, Any], words: str
) -> None:
    try:
        of = {} if body["kind"] == "add" else {"step_id": row(material, "height")["id"]}
        done = change(client, material, **of, **body)
        assert done.status_code in (404, 422)
        assert words in done.json()["error"]
    except KeyError:
        assert body["kind"] == "photo"
    assert client.get(f"/api/materials/{material['id']}").json()["head"] == material["head"]


def test_maps_come_as_bytes_and_a_draft_is_not_stored(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    ask = {"thread": "roughness", "size": 64}
    plain = client.post(f"{path}/map", json=ask)
    w, h = int(plain.headers["x-width"]), int(plain.headers["x-height"])
    assert (max(w, h), plain.headers["x-wraps"]) == (64, "1")
    assert len(plain.content) == w * h * 4
    rough = row(material, "roughness")["id"]
    draft = client.post(f"{path}/map", json={**ask, "step_id": rough, "settings": {"reads_from": "constant", "high": 1.0}})
    assert set(draft.content) == {255}
    assert client.post(f"{path}/map", json=ask).content == plain.content
    assert client.get(path).json()["head"] == material["head"]
    wrong = client.post(f"{path}/map", json={**ask, "step_id": rough, "settings": {"high": 7}})
    assert wrong.status_code == 422


def test_a_view_that_says_what_it_has_gets_only_what_changed(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    added = change(client, material, kind="add", step="repair", to=len(material["weave"]["rows"])).json()
    repair = row(added, "repair")["id"]
    ask = {"thread": "base", "size": 512, "below": repair}
    first = client.post(f"{path}/map", json=ask)
    same = client.post(f"{path}/map", json={**ask, "have": first.headers["x-key"]})
    assert (same.content, same.headers["x-blocks"]) == (b"", "128")
    mm = [float(v) for v in first.headers["x-mm"].split()]
    dab = {"tool": "paint", "points": [[mm[0] * 0.999, mm[1] * 0.2, 1]], "radius_mm": mm[0] / 40, "colour": "#ff0000"}
    laid = {"step_id": repair, "settings": {"layers": [{"strokes": [dab]}]}}
    part = client.post(f"{path}/map", json={**ask, **laid, "have": first.headers["x-key"]})
    whole = client.post(f"{path}/map", json={**ask, **laid})
    w, h = int(first.headers["x-width"]), int(first.headers["x-height"])
    mended = np.frombuffer(first.content, np.uint8).reshape(h, w, 4).copy()
    side, *places = part.headers["x-blocks"].split()
    blocks, at = [tuple(int(n) * int(side) for n in p.split(",")) for p in places], 0
    assert len(blocks) == 2  # it goes on round the right edge
    for x, y in blocks:
        goal = mended[y : y + int(side), x : x + int(side)]
        goal[...] = np.frombuffer(part.content, np.uint8, goal.size, at).reshape(goal.shape)
        at += goal.size
    assert at == len(part.content)
    assert np.array_equal(mended, np.frombuffer(whole.content, np.uint8).reshape(h, w, 4))
    assert part.headers["x-key"] == whole.headers["x-key"] != first.headers["x-key"]
    # A name that nothing is kept under is answered whole
    assert client.post(f"{path}/map", json={**ask, "have": "0" * 32}).content == first.content


def test_a_card_names_the_photo_that_stands_in_for_its_picture(client: TestClient, material: dict[str, Any]) -> None:
    card = next(m for m in client.get("/api/materials").json()["materials"] if m["id"] == material["id"])
    photo = client.get(f"/api/materials/{card['id']}/photo.jpg", params={"step_id": card["photo_row"], "size": 64})
    assert (photo.status_code, photo.headers["content-type"], photo.content[:2]) == (200, "image/jpeg", b"\xff\xd8")
    empty = client.post("/api/materials/blank", json={"name": "Lead paint"}).json()
    assert next(m for m in client.get("/api/materials").json()["materials"] if m["id"] == empty["id"])["photo_row"] == ""


def test_an_older_question_of_the_same_view_is_given_up(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}/map"
    assert client.post(path, json={"thread": "base", "size": 32, "view": "v", "sequence": 5}).status_code == 200
    late = client.post(path, json={"thread": "base", "size": 32, "view": "v", "sequence": 4})
    assert (late.status_code, late.headers["x-superseded"]) == (204, "1")
    assert client.post(path, json={"thread": "base", "size": 32, "view": "other", "sequence": 1}).status_code == 200


def test_what_is_shown_and_what_is_probed_are_the_cores(client: TestClient, material: dict[str, Any]) -> None:
    bench, store = client.app.state.works, client.app.state.store  # type: ignore[attr-defined]
    weave = store.get(material["id"]).weave
    image = bench.evaluator.ask(weave, "normal", 64)
    path = f"/api/materials/{material['id']}"
    shown = np.frombuffer(client.post(f"{path}/map", json={"thread": "normal", "size": 64}).content, np.uint8).reshape(
        image.height, image.width, 4
    )
    assert np.abs(shown[..., :3] / 255 * 2 - 1 - image.pixels).max() < 1.01 / 255
    probe = client.post(f"{path}/probe", json={"thread": "normal", "size": 64, "u": 0.3, "v": 0.7}).json()
    assert probe["values"] == pytest.approx(image.pixels[probe["y"], probe["x"]].tolist())


def test_the_form_gets_height_and_normal_at_more_than_8_bits(client: TestClient, material: dict[str, Any]) -> None:
    raw = client.post(f"/api/materials/{material['id']}/form", json={"size": 64}).content
    w, h, _, _, depth = struct.unpack("<IIfff", raw[:20])
    assert depth == 10
    n = w * h
    assert len(raw) == 20 + n * (4 + 4 + 8 + 2)
    height = np.frombuffer(raw[-2 * n :], np.float16)
    assert len(np.unique(height)) > 600
    normal = np.frombuffer(raw[20 + 8 * n : 20 + 16 * n], np.float16).reshape(-1, 4)[:, :3].astype(float) * 2 - 1
    assert np.abs(np.linalg.norm(normal, axis=1) - 1).max() < 2e-3
    bench, store = client.app.state.works, client.app.state.store  # type: ignore[attr-defined]
    want = bench.evaluator.ask(store.get(material["id"]).weave, "height", 64).plane().ravel() / 10 + 0.5
    assert np.abs(height - want).max() < 6e-4


def test_figures_name_what_is_odd(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}/figures"
    figures = client.get(path).json()
    assert figures["maps"]["metallic"] == ["constant 0"]
    assert figures["sheet"]["seam_x_after"] < 0.2 * figures["sheet"]["seam_x_before"]
    assert figures["ranges"]["roughness"][0] < figures["ranges"]["roughness"][1]
    off = change(client, material, kind="switch", step_id=row(material, "seamless")["id"], on=False).json()
    assert "not seamless" in client.get(path).json()["maps"]["base"]
    broken = change(client, off, kind="move", step_id=row(off, "normal")["id"], to=0).json()
    assert "height" in client.get(path).json()["rows"][row(broken, "normal")["id"]]["error"]


def test_histogram_counts_every_sample(client: TestClient, material: dict[str, Any]) -> None:
    done = client.post(
        f"/api/materials/{material['id']}/histogram", json={"thread": "base", "size": 64, "below": row(material, "height")["id"]}
    ).json()
    assert len(done["channels"]) == 3
    assert len({sum(c) for c in done["channels"]}) == 1


def test_cards_and_knots_are_pictures(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    assert client.get(f"{path}/card.png?entry={material['head']}").content[:4] == b"\x89PNG"
    knot = client.get(f"{path}/map/base.png?size=64&below={row(material, 'straighten')['id']}&entry={material['head']}")
    assert knot.content[:4] == b"\x89PNG"
    assert client.get(f"{path}/photo.jpg?step_id={row(material, 'photo')['id']}&size=128").content[:2] == b"\xff\xd8"
    assert client.get(f"{path}/map/not-a-thread.png").status_code == 422
    assert client.post(f"{path}/map", json={"thread": "emission", "size": 32}).status_code == 409


def wait(client: TestClient, job: str) -> dict[str, Any]:
    for _ in range(600):
        state = client.get(f"/api/jobs/{job}").json()
        if state["state"] not in ("waiting", "running"):
            return state
        time.sleep(0.05)
    raise AssertionError("the job did not end")


def test_delivery_is_a_zip_with_a_manifest(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    job = wait(client, client.post(f"{path}/deliver", json={"profile": "gltf", "size": 128}).json()["id"])
    assert (job["state"], job["fraction"]) == ("done", 1.0)
    assert any("Normal" in line for line in job["log"])
    listed = client.get(f"{path}/deliveries").json()["deliveries"]
    body = client.get(f"/api/deliveries/{listed[0]['id']}/file")
    assert "attachment" in body.headers["content-disposition"]
    with zipfile.ZipFile(io.BytesIO(body.content)) as z:
        assert z.testzip() is None
        names = z.namelist()
        assert set(names) == {
            f"fore_deck/{n}"
            for n in (
                "manifest.json",
                "read-me.txt",
                "contact-sheet.png",
                *(f"fore_deck.{e}" for e in ("glb", "gltf", "bin", "mtlx", "usdz")),
                "fore_deck_basecolor.png",
                "fore_deck_normal.png",
                "fore_deck_occlusionroughnessmetallic.png",
            )
        }
        manifest = json.loads(z.read("fore_deck/manifest.json"))
    assert manifest["material"] == "Fore deck"
    assert manifest["sources"][0]["file"] == "fore_deck.png"
    again = wait(client, client.post(f"{path}/deliver", json={"profile": "gltf", "size": 128}).json()["id"])
    assert again["result"]["file"] != job["result"]["file"], "nothing is overwritten"


def test_a_job_can_be_stopped_and_leaves_no_half_zip(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    job = client.post(f"{path}/deliver", json={"profile": "plain", "size": 4096}).json()["id"]
    client.post(f"/api/jobs/{job}/cancel")
    assert wait(client, job)["state"] == "stopped"
    assert client.get(f"{path}/deliveries").json()["deliveries"] == []
    folder: Path = client.app.state.store.folder / "deliveries"  # type: ignore[attr-defined]
    assert [p for p in folder.iterdir() if p.name.startswith(".part")] == []
    assert client.get("/api/jobs/none").status_code == 422
    assert client.post(f"{path}/deliver", json={"profile": "nobody", "size": 64}).status_code == 422
    assert client.post(f"{path}/deliver", json={"profile": "plain", "size": 2}).status_code == 422


def test_library_acts(client: TestClient, material: dict[str, Any]) -> None:
    path = f"/api/materials/{material['id']}"
    copy = client.post(f"{path}/duplicate").json()
    assert copy["name"] == "Fore deck copy"
    client.post(f"/api/materials/{copy['id']}/bin")
    assert copy["id"] not in [m["id"] for m in client.get("/api/materials").json()["materials"]]
    assert copy["id"] in [m["id"] for m in client.get("/api/materials?binned=true").json()["materials"]]
    client.post(f"/api/materials/{copy['id']}/restore")
    assert copy["id"] in [m["id"] for m in client.get("/api/materials").json()["materials"]]


DRAWN_HERE = {
    "grid",
    "regions",
    "strokes",
    "kept",
    "grey",
    "maps",
    "sizes",
    "over",
    "ramp",
    "edits",
    "sun",
    "draft",
    "path",
    "text",
    "model",
}


def test_controls_come_from_the_settings_models(client: TestClient) -> None:
    steps = {s["name"]: s for s in client.get("/api/steps").json()["steps"]}
    depth = next(f for f in steps["height"]["fields"] if f["name"] == "depth_mm")
    assert (depth["unit"], depth["low"], depth["soft"], depth["default"], depth["log"]) == ("mm", 0.001, [0.1, 100], 10.0, True)
    kinds = {f["kind"] for s in steps.values() for f in s["fields"]}
    assert kinds == {"number", "choice", "switch", "curve", "corners", "colour", "source", "thread", *DRAWN_HERE}
    assert describe.MIXES[0] == "replace"


def test_another_photo_through_the_same_weave(client: TestClient, material: dict[str, Any]) -> None:
    other = png_bytes(codes_of(noise_of(96, 1.0, 9)), colour=True)
    done = client.post(
        f"/api/materials/{material['id']}/photo",
        files={"photo": ("after_deck.png", other, "image/png")},
        data={"base": str(material["head"]), "step_id": row(material, "photo")["id"]},
    ).json()
    assert row(done, "photo")["words"] == "after_deck.png"
    assert done["label"] == "Photo: after_deck.png"
    assert client.post(f"/api/materials/{material['id']}/map", json={"thread": "base", "size": 32}).status_code == 200
