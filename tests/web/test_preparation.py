"""Preparation behind the screen: report and cures, suggestion, meters, origin, empty sheets, map sets."""

from __future__ import annotations

import io
import zipfile
from typing import Any

import cv2
import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.png import png_bytes
from silent_loom.core.look.tilt import most_contrast, tilt
from silent_loom.core.steps.maps.normal import from_height
from tests.conftest import spectrum
from tests.support import varied
from tests.web.test_api import change, client, row  # noqa: F401


def codes(light: np.ndarray) -> np.ndarray:
    return np.rint(encode_srgb(np.clip(light, 0, 1)) * 255).astype(np.uint8)


def bordered() -> bytes:
    light = varied.rubble(np.random.default_rng(4))[:300, :400].copy()
    light[:, :24] = 0.9
    u = np.mgrid[0:300, 0:400][1] / 200 - 1
    return png_bytes(codes(light * np.exp(0.3 * u)[..., None]), colour=True)


@pytest.fixture(scope="module")
def photo() -> bytes:
    return bordered()


@pytest.fixture
def material(client: TestClient, photo: bytes) -> dict[str, Any]:  # noqa: F811
    done = client.post("/api/materials", files={"photo": ("quay_wall.png", photo, "image/png")})
    assert done.status_code == 201, done.text
    return done.json()


def opened(png: bytes) -> np.ndarray:
    return np.asarray(Pillow.open(io.BytesIO(png)))


def test_findings_are_mended_in_one_step_each_and_can_be_undone(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    address = f"/api/materials/{material['id']}"
    report = client.get(f"{address}/report").json()
    by = {f["code"]: f for f in report["findings"]}
    assert {"border", "light"} <= set(by)
    assert by["border"]["cure"]["step"] == "straighten"
    assert by["border"]["mended_by"] is None
    done = client.post(f"{address}/cure", json={"code": "border"})
    assert done.status_code == 200, done.text
    state = done.json()
    corners = row(state, "straighten")["settings"]["corners"]
    assert corners[0][0] >= 24 / 400
    assert client.get(f"{address}/history").json()["entries"][0]["label"].startswith("Report:")
    again = {f["code"]: f for f in client.get(f"{address}/report?aside=true").json()["findings"]}
    assert again["border"]["mended_by"] == "Straighten"
    switched = change(client, state, kind="switch", step_id=row(state, "straighten")["id"], on=False)
    assert switched.status_code == 200, switched.text
    again = {f["code"]: f for f in client.get(f"{address}/report").json()["findings"]}
    assert again["border"]["mended_by"] is None, "a row that is off mends nothing"
    assert client.post(f"{address}/undo").status_code == 200
    assert row(client.post(f"{address}/undo").json(), "straighten")["settings"]["corners"] is None
    missing = client.post(f"{address}/cure", json={"code": "sharpness"})
    assert missing.status_code == 422
    assert client.get("/api/materials/none/report").status_code == 404


def test_a_turned_photo_is_turned_level_by_its_finding(client: TestClient) -> None:  # noqa: F811
    light = varied.slate(np.random.default_rng(6))
    h, w = light.shape[:2]
    seen = cv2.warpAffine(light, cv2.getRotationMatrix2D((w / 2, h / 2), 4.0, 1.12), (w, h), borderMode=cv2.BORDER_REFLECT)
    made = client.post("/api/materials", files={"photo": ("roof.png", png_bytes(codes(seen), colour=True), "image/png")})
    material = made.json()
    address = f"/api/materials/{material['id']}"
    told = client.post(f"{address}/suggest")
    assert "turned by 4.0°: turn it level first" in told.json()["why"]
    state = client.post(f"{address}/cure", json={"code": "turn"}).json()
    assert row(state, "straighten")["settings"]["turn_deg"] == pytest.approx(4.0, abs=0.25)
    level = opened(client.get(f"{address}/map/base.png?size=512").content)
    assert abs(tilt(most_contrast(level.astype(np.float32) / 255)).turned) < 0.4
    found = {f["code"]: f for f in client.get(f"{address}/report").json()["findings"]}["turn"]
    assert found["mended_by"] == "Straighten"


def test_a_photo_of_tiles_is_better_begun_with_whole_repeats_and_plaster_is_not(client: TestClient) -> None:  # noqa: F811
    told = {}
    for name, light in (("tiles", varied.tiles), ("plaster", varied.plaster)):
        photo = png_bytes(codes(light(np.random.default_rng(6))), colour=True)
        material = client.post("/api/materials", files={"photo": (f"{name}.png", photo, "image/png")}).json()
        told[name] = client.get(f"/api/materials/{material['id']}/meeting").json()
        assert client.get(f"/api/materials/{material['id']}").json()["head"] == material["head"], "asking changes nothing"
    assert told["plaster"] == {}
    assert told["tiles"]["settings"]["method"] == "motif"
    assert "whole repeats are kept" in told["tiles"]["why"]


def test_nothing_of_an_earlier_choice_stays_in_a_suggestion(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    address = f"/api/materials/{material['id']}"
    client.post(f"{address}/suggest")
    first = row(client.get(address).json(), "seamless")["settings"]
    odd = {"method": "motif", "cut_by": "difference", "bend": False, "overlap_x": 0.2, "overlap_y": 0.2}
    changed = change(client, client.get(address).json(), kind="settings", step_id=row(material, "seamless")["id"], settings=odd)
    assert changed.status_code == 200, changed.text
    client.post(f"{address}/suggest")
    assert row(client.get(address).json(), "seamless")["settings"] == first
    client.post(f"{address}/undo")
    client.post(f"{address}/undo")
    client.post(f"{address}/undo")


def test_a_missing_step_is_added_where_it_belongs(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    address = f"/api/materials/{material['id']}"
    removed = change(client, material, kind="remove", step_id=row(material, "light")["id"])
    assert removed.status_code == 200, removed.text
    state = client.post(f"{address}/cure", json={"code": "light"}).json()
    steps = [r["step"] for r in state["weave"]["rows"]]
    assert steps.index("light") == steps.index("straighten") + 1


def test_the_seamless_step_takes_a_suggestion(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    done = client.post(f"/api/materials/{material['id']}/suggest")
    assert done.status_code == 200, done.text
    assert done.json()["why"]
    assert row(done.json(), "seamless")["settings"]["method"] in ("cut", "fade", "gradient", "motif")
    refused = client.post(f"/api/materials/{material['id']}/suggest", params={"method": "motif"})
    assert refused.status_code == 422
    assert "motif" in refused.json()["error"]
    assert client.post(f"/api/materials/{material['id']}/suggest", params={"method": "sewing"}).status_code == 422


def test_the_overlap_is_fitted_in_one_entry(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    before = row(material, "seamless")["settings"]
    done = client.post(f"/api/materials/{material['id']}/suggest", params={"method": "overlap"})
    assert done.status_code == 200, done.text
    after = row(done.json(), "seamless")["settings"]
    changed = {k for k in after if after[k] != before[k]}
    assert changed <= {"overlap_x", "overlap_y"}
    assert ("left as they were" in done.json()["why"]) == (not changed)
    if changed:
        assert done.json()["label"] == "Seamless: overlap fitted"
        undone = client.post(f"/api/materials/{material['id']}/undo").json()
        assert row(undone, "seamless")["settings"] == before


def test_straighten_keeps_whole_repeats_in_one_step(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    refused = client.post(f"/api/materials/{material['id']}/whole-repeats")
    assert refused.status_code == 422
    assert "no regular motif" in refused.json()["error"]
    motif = png_bytes(codes(next(p for p in varied.photos() if p.name == "dots").image.pixels), colour=True)
    made = client.post("/api/materials", files={"photo": ("awning.png", motif, "image/png")}).json()
    done = client.post(f"/api/materials/{made['id']}/whole-repeats").json()
    assert "repeats are kept" in done["why"]
    assert len(row(done, "straighten")["settings"]["corners"]) == 4
    back = client.post(f"/api/materials/{made['id']}/undo").json()
    assert [r["settings"] for r in back["weave"]["rows"]] == [r["settings"] for r in made["weave"]["rows"]]


def test_light_seams_and_spots_are_shown(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    address = f"/api/materials/{material['id']}"
    picture = opened(client.get(f"{address}/light.png").content)
    light = picture.reshape(*picture.shape[:2], -1)[..., 0].astype(float)
    edge = light.shape[1] // 8
    assert light[:, -edge:].mean() > light[:, edge : 2 * edge].mean() + 20, "it gets lighter to the right"
    heat = client.get(f"{address}/seams.png", params={"size": 256})
    assert heat.status_code == 200
    assert max(opened(heat.content).shape[:2]) == 256
    spots = client.get(f"{address}/spots").json()
    assert 0 <= spots["repetition"] <= 1
    assert spots["copied"] <= spots["alike"] + 0.05, "a cut shows nothing twice that did not look alike before"
    change(client, material, kind="settings", step_id=row(material, "seamless")["id"], settings={"method": "mirror"})
    mirrored = client.get(f"{address}/spots").json()
    assert mirrored["copied"] > mirrored["alike"] + 0.3
    client.post(f"{address}/undo")
    for spot in spots["spots"]:
        assert 0 <= spot["u"] <= 1
        assert 0 <= spot["v"] <= 1


def test_a_place_is_picked_as_linear_light(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    body = {"thread": "base", "below": row(material, "light")["id"], "u": 0.02, "v": 0.5, "size": 256}
    done = client.post(f"/api/materials/{material['id']}/pick", json=body)
    assert done.status_code == 200, done.text
    # The white border, 0.9 in linear light, dimmed by the slope
    assert done.json()["light"] == pytest.approx([0.9 * np.exp(0.3 * (0.02 * 2 - 1))] * 3, abs=0.03)


def test_break_up_shows_its_cells(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    rows = material["weave"]["rows"]
    added = change(client, material, kind="add", step="breakup", to=4)
    assert added.status_code == 200, added.text
    new = next(r for r in added.json()["weave"]["rows"] if r["step"] == "breakup")
    assert len(added.json()["weave"]["rows"]) == len(rows) + 1
    for what in ("cells", "before", "chart"):
        done = client.get(f"/api/materials/{material['id']}/cells.png", params={"step_id": new["id"], "what": what, "size": 256})
        assert done.status_code == 200, done.text
        assert len(np.unique(opened(done.content).reshape(-1, opened(done.content).shape[-1]), axis=0)) > 8
    wrong = client.get(f"/api/materials/{material['id']}/cells.png", params={"step_id": row(material, "height")["id"]})
    assert wrong.status_code == 422


def test_origin_is_kept_shown_and_carried(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    told = {"author": "Ines Varr", "origin": "Quay, north side", "licence": "CC-BY-4.0", "sale": "no", "note": "after rain"}
    done = client.post(f"/api/materials/{material['id']}/origin", json=told)
    assert done.status_code == 200, done.text
    assert done.json()["origin"] == told
    listed = next(m for m in client.get("/api/materials").json()["materials"] if m["id"] == material["id"])
    assert listed["origin"]["licence"] == "CC-BY-4.0"
    copy = client.post(f"/api/materials/{material['id']}/duplicate").json()
    assert copy["origin"] == told
    assert client.post(f"/api/materials/{material['id']}/origin", json={"sale": "perhaps"}).status_code == 422


def test_an_empty_sheet_is_painted(client: TestClient) -> None:  # noqa: F811
    done = client.post(
        "/api/materials/blank", json={"name": "Signal flag", "colour": "#203050", "width_mm": 900, "height_mm": 600}
    )
    assert done.status_code == 201, done.text
    state = done.json()
    assert [r["step"] for r in state["weave"]["rows"]][:2] == ["blank", "repair"]
    layers = [
        {
            "name": "Stripe",
            "strokes": [{"tool": "paint", "points": [[450, 300, 1]], "radius_mm": 80, "softness": 0, "colour": "#f0f0f0"}],
        }
    ]
    painted = change(client, state, kind="settings", step_id=row(state, "repair")["id"], settings={"layers": layers})
    assert painted.status_code == 200, painted.text
    picture = opened(client.get(f"/api/materials/{state['id']}/map/base.png", params={"size": 300}).content)
    assert picture.shape[:2] == (200, 300)
    assert tuple(picture[100, 150][:3]) == (0xF0, 0xF0, 0xF0)
    assert tuple(picture[10, 10][:3]) == (0x20, 0x30, 0x50)
    assert client.post("/api/materials/blank", json={"colour": "navy"}).status_code == 422
    assert client.post("/api/materials/blank", json={"width_mm": -3}).status_code == 422


# --- map sets ---------------------------------------------------------------------------------------------------


def files() -> dict[str, bytes]:
    plane = spectrum(128, 1.8, 5, keep=0.2)
    n = from_height(Image(plane[..., None] * 2, Kind.DATA, (128.0, 128.0), True)).pixels * np.array([1, -1, 1], np.float32)

    def eight(a: np.ndarray) -> np.ndarray:
        return np.rint(np.clip(a, 0, 1) * 255).astype(np.uint8)

    return {
        "slipway_albedo.png": png_bytes(eight(np.stack([plane, plane, plane], -1) * 0.1 + 0.4), colour=True),
        "slipway_normal.png": png_bytes(eight(n * 0.5 + 0.5), colour=False),
        "slipway_gloss.png": png_bytes(eight(plane[..., None] * 0.1 + 0.4), colour=False),
    }


def take(client: TestClient, *parts: tuple[str, bytes]) -> Any:  # noqa: F811
    return client.post("/api/open", files=[("files", (name, body, "application/octet-stream")) for name, body in parts])


def zipped(content: dict[str, bytes]) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for name, body in content.items():
            archive.writestr(name, body)
    return buffer.getvalue()


@pytest.mark.parametrize("packed", [False, True])
def test_a_set_becomes_a_material_after_its_table_was_confirmed(client: TestClient, packed: bool) -> None:  # noqa: F811
    before = len(client.get("/api/materials").json()["materials"])
    done = take(client, ("set.zip", zipped(files()))) if packed else take(client, *files().items())
    assert done.status_code == 200, done.text
    made = done.json()
    assert len(client.get("/api/materials").json()["materials"]) == before, "nothing is done before it is confirmed"
    told = {c["map"]: f for f in made["sets"][0]["files"] for c in f["channels"]}
    assert set(told) == {"base", "normal", "smoothness"}
    assert told["normal"]["green"] == "down"
    maps = [
        {"path": told["base"]["path"], "thread": "base"},
        {"path": told["normal"]["path"], "thread": "normal", "green_down": True},
        {"path": told["smoothness"]["path"], "thread": "roughness", "invert": True, "channel": "r"},
    ]
    body = {"token": made["token"], "name": "Slipway", "maps": maps, "width_mm": 800}
    state = client.post("/api/open/make", json=body)
    assert state.status_code == 201, state.text
    rows = [r["step"] for r in state.json()["weave"]["rows"]]
    assert rows[0] == "mapset"
    assert {"height", "integrate"} & set(rows), "from the normals where there are some, else from the picture"
    assert "normal" not in rows, "what came is not made again"
    rough = opened(client.get(f"/api/materials/{state.json()['id']}/map/roughness.png", params={"size": 128}).content)
    want = 255 - opened(files()["slipway_gloss.png"])
    assert np.abs(rough.astype(int).reshape(128, 128, -1)[..., 0] - want).max() <= 1


def test_confirming_what_was_not_opened_is_refused(client: TestClient) -> None:  # noqa: F811
    made = take(client, *files().items()).json()
    path = made["sets"][0]["files"][0]["path"]
    twice = [{"path": path, "thread": "base"}, {"path": path, "thread": "base"}]
    for body, words in (
        ({"token": "gone", "name": "x", "maps": twice[:1]}, "no longer here"),
        ({"token": made["token"], "name": "x", "maps": [{"path": "/etc/passwd", "thread": "base"}]}, "not opened"),
        ({"token": made["token"], "name": "x", "maps": twice}, "two sources"),
        ({"token": made["token"], "name": "x", "maps": [{"path": path, "thread": "gloss"}]}, "not complete"),
    ):
        done = client.post("/api/open/make", json=body)
        assert done.status_code in (404, 422), done.text
        assert words in done.json()["error"]


def test_hostile_uploads_are_refused_and_leave_nothing(client: TestClient) -> None:  # noqa: F811
    store = client.app.state.store  # type: ignore[attr-defined]

    def left() -> set[str]:
        return {p.name for p in store.folder.glob(".opened-*")}

    before = left()
    good = files()["slipway_albedo.png"]
    for name, body, words in (
        ("a.zip", zipped({"../a.png": good}), "outside"),
        ("a.zip", zipped({"readme.txt": b"x"}), "no picture"),
        ("a.zip", b"PK nothing", "cannot be read"),
        ("a.png", b"only words", "not a PNG"),
        ("a.txt", b"only words", "no picture"),
    ):
        done = take(client, (name, body))
        assert done.status_code == 415, done.text
        assert words in done.json()["error"]
    assert left() == before
