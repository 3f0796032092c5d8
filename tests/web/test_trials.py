"""Pictures beside settings, profiles, borders, masks, a second material, mends: over the API."""

from __future__ import annotations

import base64
import io
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from tests.web.test_api import PHOTO, change, row
from tests.web.test_api import client as client
from tests.web.test_api import material as material


def asked(client: TestClient, material: dict[str, Any], what: str, **body: Any) -> Any:
    return client.post(f"/api/materials/{material['id']}/{what}", json=body)


def picture(inline: str) -> np.ndarray:
    return np.asarray(Pillow.open(io.BytesIO(base64.b64decode(inline.partition(",")[2])))).astype(float)


def with_step(client: TestClient, material: dict[str, Any], step: str, settings: dict[str, Any]) -> dict[str, Any]:
    done = change(client, material, kind="add", step=step, settings=settings, to=99)
    assert done.status_code == 200, done.text
    return done.json()


def test_both_reliefs_are_shown_and_differ(client: TestClient, material: dict[str, Any]) -> None:
    height = row(material, "height")
    found = asked(client, material, "reliefs", step_id=height["id"], settings={"light_deg": 30}).json()["reliefs"]
    assert [f["light_deg"] for f in found] == [30, 210]
    one, other = (picture(f["picture"]) for f in found)
    assert np.corrcoef(one.ravel(), other.ravel())[0, 1] < 0, "what is a hill in one is a hollow in the other"
    assert row(client.get(f"/api/materials/{material['id']}").json(), "height")["settings"]["light_deg"] is None


def test_both_reliefs_of_a_row_that_reads_light_are_of_what_it_reads(client: TestClient, material: dict[str, Any]) -> None:
    at = [r["step"] for r in material["weave"]["rows"]].index("height")
    material = change(client, material, kind="add", step="reading", to=at).json()
    reading = row(material, "reading")
    found = asked(client, material, "reliefs", step_id=reading["id"], settings={"light_deg": 30}).json()["reliefs"]
    assert [f["light_deg"] for f in found] == [30, 210]
    one, other = (picture(f["picture"]) for f in found)
    assert np.corrcoef(one.ravel(), other.ravel())[0, 1] < 0.5
    wrong = asked(client, material, "reliefs", step_id=row(material, "normal")["id"])
    assert wrong.status_code == 422
    assert "reads no relief" in wrong.text


def test_channels_and_sizes_of_what_comes_in(client: TestClient, material: dict[str, Any]) -> None:
    height = row(material, "height")
    found = asked(client, material, "channels", step_id=height["id"]).json()["channels"]
    assert list(found) == ["lightness", "red", "green", "blue"]
    assert not np.array_equal(picture(found["red"]), picture(found["blue"]))
    sizes = asked(client, material, "spectrum", step_id=height["id"]).json()["spectrum"]
    assert max(v for _, v in sizes) == 1
    assert [s for s, _ in sizes] == sorted(s for s, _ in sizes)
    wrong = asked(client, material, "channels", step_id=row(material, "occlusion")["id"])
    assert wrong.status_code == 409
    assert "reads nothing of this kind" in wrong.text


def test_a_profile_is_the_height_along_a_line(client: TestClient, material: dict[str, Any]) -> None:
    found = asked(client, material, "profile", thread="height", start=[0.1, 0.5], end=[0.9, 0.5], size=256).json()
    assert found["unit"] == "mm"
    assert found["length_mm"] == pytest.approx(0.8 * material["weave"]["size_mm"][0], rel=0.02)
    assert len(found["values"]) == 256
    probed = asked(client, material, "probe", thread="height", u=0.1, v=0.5, size=256).json()["values"][0]
    assert found["values"][0] == pytest.approx(probed, abs=0.4)
    refused = asked(client, material, "profile", thread="base", start=[0, 0], end=[1, 1])
    assert refused.status_code in (400, 422)
    assert "plain numbers" in refused.text


def test_borders_and_masks_lie_over_the_picture(client: TestClient, material: dict[str, Any]) -> None:
    made = with_step(client, material, "elements", {})
    png = client.get(f"/api/materials/{material['id']}/borders/id.png?size=256")
    assert png.headers["content-type"] == "image/png"
    alpha = np.asarray(Pillow.open(io.BytesIO(png.content)))[..., 3]
    assert 0.002 < (alpha > 0).mean() < 0.95
    brush = {"kind": "brush", "points": [[0.5, 0.5]], "radius": 0.2}
    made = with_step(client, made, "mark", {"regions": [brush], "name": "moss"})
    cover = client.get(f"/api/materials/{material['id']}/cover/moss.png?size=128").content
    alpha = np.asarray(Pillow.open(io.BytesIO(cover)))[..., 3]
    assert alpha[alpha.shape[0] // 2, alpha.shape[1] // 2] > 100
    assert alpha[2, 2] == 0
    assert client.get(f"/api/materials/{material['id']}/borders/base.png").status_code >= 400
    assert row(made, "mark")["knots"]["moss"] == "writes"


def test_a_second_material_is_laid_over_with_all_its_maps(client: TestClient, material: dict[str, Any]) -> None:
    other = client.post("/api/materials", files={"photo": ("cork.png", PHOTO, "image/png")}).json()
    made = with_step(client, material, "over", {"how": "everywhere"})
    over, path = row(made, "over"), f"/api/materials/{material['id']}/lay-over"
    done = client.post(path, json={"step_id": over["id"], "material": other["id"], "size": 64})
    assert done.status_code == 200, done.text
    laid = row(done.json(), "over")
    assert {m["thread"] for m in laid["settings"]["maps"]} >= {"base", "height", "normal", "roughness"}
    assert laid["knots"]["height"] == "both"
    again = client.post(path, json={"step_id": over["id"], "material": material["id"]})
    assert again.status_code in (400, 422)
    photo = client.post(
        f"/api/materials/{material['id']}/lay-over-photo",
        files={"photo": ("moss.png", PHOTO, "image/png")},
        data={"step_id": over["id"]},
    )
    assert [m["thread"] for m in row(photo.json(), "over")["settings"]["maps"]] == ["base"]
    assert asked(client, material, "map", thread="base", size=64).status_code == 200


def test_what_is_odd_is_told_and_mended_once(client: TestClient, material: dict[str, Any]) -> None:
    metal = row(material, "metallic")
    lum = {"mode": "by thread", "where": "height", "threshold": 0.5, "border": 1.0}
    changed = change(client, material, kind="settings", step_id=metal["id"], settings=lum).json()
    odd = client.get(f"/api/materials/{material['id']}/odd/metallic").json()["odd"]
    half = next(o for o in odd if o["check"] in ("half_metal", "follows"))
    assert "bare metal" in half["says"]
    assert half["mend"]
    done = asked(client, changed, "mend", thread="metallic", check=half["check"]).json()
    assert row(done, "metallic")["settings"]["mode"] == "constant"
    assert done["step_id"] == metal["id"]
    after = client.get(f"/api/materials/{material['id']}/odd/metallic").json()["odd"]
    assert all(o["check"] == "constant" for o in after)
    assert asked(client, changed, "mend", thread="metallic", check="half_metal").status_code >= 400
