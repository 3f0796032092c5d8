"""Snapshots, steps off, charts, trials, differences, readings and models: over the API."""

from __future__ import annotations

import io
import json
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from silent_loom.core.base.parallel import Task
from silent_loom.core.delivery.proving.difference import differences
from silent_loom.core.files import read
from silent_loom.core.weave.threads import spec
from tests.core.screen.test_looking import CUBE, triangle
from tests.web.test_api import change, row, wait
from tests.web.test_api import client as client
from tests.web.test_api import material as material


def asked(client: TestClient, material: dict[str, Any], what: str, **body: Any) -> Any:
    return client.post(f"/api/materials/{material['id']}/{what}", json=body)


def delivered(client: TestClient, material: dict[str, Any], size: int) -> bytes:
    job = client.post(f"/api/materials/{material['id']}/deliver", json={"profile": "plain", "size": size}).json()
    done = wait(client, job["id"])
    assert done["state"] == "done", done
    listed = client.get(f"/api/materials/{material['id']}/deliveries").json()["deliveries"]
    return client.get(f"/api/deliveries/{listed[0]['id']}/file").content


def pixels(answer: Any) -> np.ndarray:
    assert answer.status_code == 200, answer.text
    w, h = int(answer.headers["x-width"]), int(answer.headers["x-height"])
    return np.frombuffer(answer.content, np.uint8).reshape(h, w, 4)


def facts(answer: Any) -> dict[str, Any]:
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = json.loads(answer.headers["x-facts"])
    return found


def test_snapshots_are_named_kept_and_forgotten(client: TestClient, material: dict[str, Any]) -> None:
    at = f"/api/materials/{material['id']}/snapshots"
    first = client.post(at, json={"name": "  before the   tone "}).json()
    assert (first["name"], first["entry"]) == ("before the tone", material["head"])
    after = change(client, material, kind="add", step="tone", settings={"brightness": 1}, to=99).json()
    second = client.post(at, json={}).json()
    assert (second["name"], second["entry"]) == ("Snapshot 2", after["head"])
    assert [s["name"] for s in client.get(at).json()["snapshots"]] == ["Snapshot 2", "before the tone"]
    assert client.post(f"{at}/{first['id']}/rename", json={"name": "bare"}).json()["name"] == "bare"
    assert client.post(f"{at}/{first['id']}/rename", json={"name": " "}).status_code == 422
    pictures = [client.get(f"/api/materials/{material['id']}/state.png?entry={s['entry']}").content for s in (first, second)]
    assert np.asarray(Pillow.open(io.BytesIO(pictures[1]))).mean() > np.asarray(Pillow.open(io.BytesIO(pictures[0]))).mean() + 5
    assert client.delete(f"{at}/{second['id']}").status_code == 204
    assert [s["id"] for s in client.get(at).json()["snapshots"]] == [first["id"]]
    assert client.delete(f"{at}/{second['id']}").status_code == 404
    assert client.post(at, json={"entry": 10**9}).status_code == 404
    assert client.post(at, json={"name": "x" * 500}).status_code == 422


def test_a_step_off_is_looked_at_and_not_switched(client: TestClient, material: dict[str, Any]) -> None:
    toned = change(client, material, kind="add", step="tone", settings={"brightness": 1.5}, to=99).json()
    tone = toned["weave"]["rows"][-1]
    with_it = pixels(asked(client, toned, "map", size=64))
    without = pixels(asked(client, toned, "map", size=64, off=tone["id"]))
    assert with_it[..., :3].mean() > without[..., :3].mean() + 20
    assert client.get(f"/api/materials/{material['id']}").json()["head"] == toned["head"]
    assert asked(client, toned, "map", size=64, off="nowhere").status_code == 422


def test_a_chart_goes_through_the_steps_as_the_photo_does(client: TestClient, material: dict[str, Any]) -> None:
    plain = pixels(asked(client, material, "map", size=128, chart="gradient", chart_below=material["weave"]["rows"][-1]["id"]))
    ramp = plain[4, :, 0].astype(int)
    assert (np.diff(ramp) >= 0).all()
    assert ramp[0] < 5
    assert ramp[-1] > 250
    through = pixels(asked(client, material, "map", size=128, chart="gradient"))
    assert not np.array_equal(through, plain), "the seamless step moves it"
    again = pixels(asked(client, material, "map", size=128, chart="gradient"))
    assert np.array_equal(through, again)
    assert asked(client, material, "map", size=64, chart="rings").status_code == 422


def test_one_channel_and_what_is_cut_off(client: TestClient, material: dict[str, Any]) -> None:
    whole, red = pixels(asked(client, material, "map", size=64)), pixels(asked(client, material, "map", size=64, part="r"))
    assert np.array_equal(red[..., :3], np.repeat(whole[..., :1], 3, 2))
    bright = change(client, material, kind="add", step="tone", settings={"brightness": 5}, to=99).json()
    marked = pixels(asked(client, bright, "map", size=64, clipped=True))
    assert (marked[..., :3] == (226, 62, 30)).all(2).mean() > 0.2


def test_a_trial_shows_what_keeping_makes(client: TestClient, material: dict[str, Any]) -> None:
    tried = {"role": "roughness", "thread": "base", "part": "g", "inverted": True}
    seen = pixels(asked(client, material, "map", thread="roughness", size=64, trial=tried))
    base = pixels(asked(client, material, "map", size=64))
    assert np.abs(seen[..., 0].astype(int) - (255 - base[..., 1].astype(int))).max() <= 1
    plain = asked(client, material, "form", size=64).content
    kept = client.post(f"/api/materials/{material['id']}/trial", json=tried).json()
    after = change(client, material, **kept).json()
    assert np.array_equal(pixels(asked(client, after, "map", thread="roughness", size=64)), seen)
    form = asked(client, material, "form", size=64, trial=tried)
    assert form.status_code == 200
    assert form.content == asked(client, after, "form", size=64).content != plain
    wrong = asked(client, material, "form", size=64, trial={"role": "smell", "thread": "base"})
    assert wrong.status_code == 422
    assert "roughness" in wrong.json()["error"]


def test_a_height_that_is_tried_spans_the_depth(client: TestClient, material: dict[str, Any]) -> None:
    tried = {"role": "height", "thread": "base"}
    found = asked(client, material, "spread", thread="height", size=64, trial=tried).json()
    depth = found["high"] - found["low"]
    low, high = found["channels"][0]["low"], found["channels"][0]["high"]
    assert found["unit"] == "mm"
    assert -depth / 2 - 1e-3 <= low < high <= depth / 2 + 1e-3
    assert high - low > 0.1 * depth


def test_differences_are_those_of_the_delivered_files(client: TestClient, material: dict[str, Any], tmp_path: Path) -> None:
    before = material["head"]
    first = delivered(client, material, size=256)
    after = change(client, material, kind="settings", step_id=row(material, "height")["id"], settings={"depth_mm": 7.0}).json()
    after = change(client, after, kind="add", step="tone", settings={"brightness": 0.4, "hue": 20}, to=99).json()
    after = change(client, after, kind="add", step="tone", settings={"thread": "roughness", "brightness": 1}, to=99).json()
    second = delivered(client, after, size=256)
    for n, body in enumerate((first, second)):
        zipfile.ZipFile(io.BytesIO(body)).extractall(tmp_path / str(n))
    for thread, suffix in (("base", "basecolor"), ("normal", "normal"), ("roughness", "roughness")):
        files = [read(next((tmp_path / str(n)).rglob(f"*_{suffix}.png")), name="", fmt=None) for n in (0, 1)]
        codes = [f.samples.astype(np.float32) / np.float32(np.iinfo(f.samples.dtype).max) for f in files]
        told = differences(codes[0], codes[1], spec(thread))
        said = facts(asked(client, after, "difference", thread=thread, size=256, one={"entry": before}, other={}))
        assert told.max > 0
        for what in ("mean", "p95", "max", "rmse", "max_code"):
            assert said[what] == pytest.approx(getattr(told, what), abs=1e-6), (thread, what)
    same = facts(asked(client, after, "difference", size=128))
    assert (same["max"], same["psnr"]) == (0, None)


def test_two_materials_are_compared_over_the_first_ones_texels(client: TestClient, material: dict[str, Any]) -> None:
    other = client.post(f"/api/materials/{material['id']}/duplicate").json()
    changed = client.get(f"/api/materials/{other['id']}").json()
    change(client, changed, kind="add", step="tone", settings={"brightness": -1}, to=99)
    found = asked(client, material, "difference", size=64, other={"material": other["id"]})
    told = facts(found)
    assert told["measure"] == "ΔE00"
    assert told["mean"] > 5
    assert not told["resized"]
    assert len(found.content) == told["width"] * told["height"] * 3


def test_values_and_colours_are_read(client: TestClient, material: dict[str, Any]) -> None:
    found = asked(client, material, "spread", size=128).json()
    assert [c["name"] for c in found["channels"]] == ["r", "g", "b"]
    assert all(c["low"] <= c["p1"] <= c["median"] <= c["p99"] <= c["high"] for c in found["channels"])
    assert sum(found["histogram"][0]) > 0
    plot = client.get(f"/api/materials/{material['id']}/colours.png?thread=base&size=128")
    assert Pillow.open(io.BytesIO(plot.content)).size == (193, 193)
    assert client.get(f"/api/materials/{material['id']}/colours.png?thread=height&size=64").status_code == 409


def test_models_are_kept_and_thrown_away(client: TestClient) -> None:
    added = client.post("/api/models", files={"model": ("buoy.obj", CUBE.encode())})
    assert added.status_code == 201, added.text
    assert (added.json()["format"], added.json()["triangles"]) == ("obj", 2)
    other = client.post("/api/models", files={"model": ("piece.glb", triangle())}).json()
    assert {m["name"] for m in client.get("/api/models").json()["models"]} == {"buoy.obj", "piece.glb"}
    mesh = client.get(f"/api/models/{other['id']}/mesh")
    assert mesh.headers["x-own-uv"] == "1"
    assert np.frombuffer(mesh.content[:8], "<u4").tolist() == [3, 1]
    assert len(mesh.content) == 8 + 3 * 32 + 12
    refused = client.post("/api/models", files={"model": ("photo.obj", b"\xff\xd8 no model")})
    assert refused.status_code == 415
    assert client.delete(f"/api/models/{other['id']}").status_code == 204
    assert client.get(f"/api/models/{other['id']}/mesh").status_code == 404
    assert len(client.get("/api/models").json()["models"]) == 1


def test_a_delivery_is_proved_against_the_state_that_was_delivered(client: TestClient, material: dict[str, Any]) -> None:
    delivered(client, material, size=128)
    change(client, material, kind="add", step="tone", settings={"brightness": 2}, to=99)
    listed = client.get(f"/api/materials/{material['id']}/deliveries").json()["deliveries"]
    done = wait(client, client.post(f"/api/deliveries/{listed[0]['id']}/proof").json()["id"])
    assert done["state"] == "done", done
    assert done["result"]["same"], done["result"]
    assert done["result"]["state"] == material["head"]
    assert {m["map"] for m in done["result"]["maps"]} == {"base", "height", "normal", "roughness", "metallic", "occlusion"}


def test_a_delivery_with_a_wrong_green_is_found_out(client: TestClient, material: dict[str, Any]) -> None:
    delivered(client, material, size=128)
    listed = client.get(f"/api/materials/{material['id']}/deliveries").json()["deliveries"]
    path = client.app.state.store.folder / "deliveries" / listed[0]["file"]  # type: ignore[attr-defined]
    with zipfile.ZipFile(path) as z:
        inside = {n: z.read(n) for n in z.namelist()}
    manifest = next(n for n in inside if n.endswith("manifest.json"))
    inside[manifest] = inside[manifest].replace(b'"green": "up"', b'"green": "down"')
    with zipfile.ZipFile(path, "w") as z:
        for name, body in inside.items():
            z.writestr(name, body)
    done = wait(client, client.post(f"/api/deliveries/{listed[0]['id']}/proof").json()["id"])
    wrong = [m for m in done["result"]["maps"] if not m["same"]]
    assert [(m["map"], "green" in m["mistake"]) for m in wrong] == [("normal", True)]


def test_a_state_seen_before_shows_at_once_after_a_new_start(client: TestClient, material: dict[str, Any]) -> None:
    bench = client.app.state.works  # type: ignore[attr-defined]
    kept = bench.views.glances
    settled = lambda: kept._aside.submit(int).result()  # noqa: E731 - what was put aside before is done then
    seen = pixels(asked(client, material, "map", size=512))
    after = change(client, material, kind="add", step="tone", settings={"brightness": 1}, to=99).json()
    asked(client, after, "map", size=512, step_id=after["weave"]["rows"][-1]["id"], settings={"brightness": 0.2})
    settled()
    assert asked(client, after, "glance").status_code == 204, "nobody saw that state, and what was only tried is none"
    assert asked(client, material, "glance", entry=material["head"], thread="height").status_code == 204
    bench.desk.evaluator.cache.clear()
    with bench.desk.lane.hold(Task()):  # whatever is being computed: it is not waited for
        found = asked(client, after, "glance", entry=material["head"])
    small = pixels(found)
    assert max(small.shape[:2]) == 256
    assert found.headers["x-key"] == ""
    h, w = small.shape[:2]
    reduced = seen[..., :3].reshape(h, seen.shape[0] // h, w, seen.shape[1] // w, 3).mean((1, 3))
    assert np.abs(small[..., :3] - reduced).mean() < 4
    assert asked(client, after, "glance", entry=material["head"], chart="gradient").status_code == 204
    assert asked(client, after, "glance", entry=material["head"], part="r").status_code == 204
    assert asked(client, after, "glance", thread="nothing").status_code == 204


def test_only_as_many_glances_are_kept_as_are_worth_their_room(
    client: TestClient, material: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    from silent_loom.work.looking import glances

    kept = client.app.state.works.views.glances  # type: ignore[attr-defined]
    monkeypatch.setattr(glances, "MOST", 2)
    for n in range(4):
        kept._write(kept.folder / f"a{n}.0_1", b"x")
        os.utime(kept.folder / f"a{n}.0_1", (n, n))
    kept._thin()
    assert len([p for p in kept.folder.iterdir() if not p.name.startswith(".")]) == 2
    assert not (kept.folder / "a0.0_1").exists()
    assert not list(kept.folder.glob(".part-*"))
