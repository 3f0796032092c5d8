"""Patterns over HTTP: the list, materials that begin from them, rows that go from one material to another."""

from __future__ import annotations

from io import BytesIO
from typing import Any

import numpy as np
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from silent_loom.core.weave.rows.beginnings import beginnings
from tests.web.test_api import change, client, material  # noqa: F401


def begun(client: TestClient, **body: Any) -> dict[str, Any]:  # noqa: F811
    made = client.post("/api/materials/pattern", json=body)
    assert made.status_code == 201, made.text
    found: dict[str, Any] = made.json()
    return found


def test_every_pattern_has_its_picture(client: TestClient) -> None:  # noqa: F811
    told = client.get("/api/patterns").json()["patterns"]
    assert [p["name"] for p in told] == list(beginnings())
    for p in told:
        picture = client.get(p["picture"])
        assert picture.status_code == 200, p["name"]
        assert picture.content[8:12] == b"WEBP"


def test_a_material_begins_from_a_pattern(client: TestClient) -> None:  # noqa: F811
    made = begun(client, pattern="clinkers", name="Yard", seed=7, width_mm=2262.0)
    weave = made["weave"]
    assert made["name"] == "Yard"
    assert [round(n) for n in weave["size_mm"]] == [2262, 2262]
    bond = next(r for r in weave["rows"] if r["step"] == "bonds")
    assert bond["settings"]["seed"] == 7
    assert not any(r["error"] for r in weave["rows"])
    assert weave["wraps"]
    assert "unused" in weave
    groups = {r["title"]: [d["title"] for d in r["dials"]] for r in weave["rows"] if r["group"]}
    assert {"Mottled", "Varied", "Dirt"} <= set(groups["Colour"])
    picture = client.get(f"/api/materials/{made['id']}/map/base.png?size=64")
    assert picture.status_code == 200
    usual = begun(client, pattern="bricks")
    assert usual["name"] == "Bricks"
    assert usual["weave"]["size_mm"] == list(beginnings()["bricks"].size_mm)
    wrong = client.post("/api/materials/pattern", json={"pattern": "brickz"})
    assert wrong.status_code == 422
    assert "no pattern called" in wrong.json()["error"]
    assert client.post("/api/materials/pattern", json={"pattern": "bricks", "width_mm": -1}).status_code == 422


def test_rows_go_from_one_material_to_another_and_files_with_them(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    bricks = begun(client, pattern="bricks")
    colour = next(r for r in bricks["weave"]["rows"] if r["group"] and r["title"] == "Colour")
    copied = client.get(f"/api/materials/{bricks['id']}/rows", params={"ids": colour["id"]}).json()["entries"]
    other = begun(client, pattern="rock")
    count = len(other["weave"]["rows"])
    after = change(client, other, kind="paste", entries=copied, to=1).json()
    assert len(after["weave"]["rows"]) == count + 1 + len(copied[0]["rows"])
    assert colour["id"] not in {r["id"] for r in after["weave"]["rows"]}
    photo = client.get(f"/api/materials/{material['id']}/rows", params={"ids": "photo"}).json()["entries"]
    with_photo = change(client, after, kind="paste", entries=photo, to=0).json()
    assert with_photo["weave"]["sources"]
    missing = [{**photo[0], "settings": {**photo[0]["settings"], "source": "ab" * 32}}]
    refused = client.post(
        f"/api/materials/{other['id']}/change", json={"base": with_photo["head"], "kind": "paste", "entries": missing, "to": 0}
    )
    assert refused.status_code in (404, 422)
    nonsense = {"base": with_photo["head"], "kind": "paste", "entries": [{"step": 3}], "to": 0}
    assert client.post(f"/api/materials/{other['id']}/change", json=nonsense).status_code == 422


def test_notes_and_formulas_are_kept(client: TestClient) -> None:  # noqa: F811
    made = begun(client, pattern="bricks")
    row = next(r for r in made["weave"]["rows"] if r["step"] == "bonds")
    after = change(client, made, kind="note", step_id=row["id"], note="as on the pier").json()
    assert next(r for r in after["weave"]["rows"] if r["id"] == row["id"])["note"] == "as on the pier"
    group = next(r for r in after["weave"]["rows"] if r["group"] and r["title"] == "Relief")
    drive = {"row": row["id"], "setting": "joint_mm", "low": 0, "high": 30, "formula": "low + high * x ^ 2"}
    dial = {"title": "Joints", "value": 0.5, "drives": [drive]}
    turned = change(client, after, kind="dial", step_id=group["id"], dial=dial).json()
    now = next(r for r in turned["weave"]["rows"] if r["id"] == group["id"])["dials"][0]["drives"][0]
    assert now["now"] == 7.5
    wrong = {**dial, "drives": [{**drive, "formula": "low +"}]}
    refused = client.post(
        f"/api/materials/{made['id']}/change",
        json={"base": turned["head"], "kind": "dial", "step_id": group["id"], "dial": wrong},
    )
    assert refused.status_code == 422
    assert "formula" in refused.text


def test_other_photos_go_through_the_same_weave(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    straighten = next(r for r in material["weave"]["rows"] if r["step"] == "straighten")
    corners = [[0.1, 0.1], [0.9, 0.1], [0.9, 0.9], [0.1, 0.9]]
    now = change(client, material, kind="settings", step_id=straighten["id"], settings={"corners": corners}).json()
    rough = next(r for r in now["weave"]["rows"] if r["step"] == "roughness")
    now = change(client, now, kind="settings", step_id=rough["id"], settings={"high": 0.9}).json()
    rng = np.random.default_rng(4)
    stream = BytesIO()
    Pillow.fromarray(rng.integers(0, 255, (90, 120, 3), np.uint8)).save(stream, "PNG")

    def again(**more: str) -> dict[str, Any]:
        files = {"photo": ("aft_deck.png", stream.getvalue(), "image/png")}
        made = client.post(f"/api/materials/{material['id']}/again", files=files, data=more)
        assert made.status_code == 201, made.text
        found: dict[str, Any] = made.json()
        return found

    made = again()
    rows = {r["step"]: r for r in made["weave"]["rows"]}
    assert made["name"] == "Aft deck"
    assert rows["roughness"]["settings"]["high"] == 0.9
    assert rows["straighten"]["settings"]["corners"] is None, "corners were placed on another photo"
    assert rows["photo"]["words"] == "aft_deck.png"
    kept = again(keep_corners="true", name="Stern")
    assert {r["step"]: r for r in kept["weave"]["rows"]}["straighten"]["settings"]["corners"] == corners
    assert client.get(f"/api/materials/{material['id']}").json()["head"] == now["head"]
    bricks = begun(client, pattern="bricks")
    refused = client.post(f"/api/materials/{bricks['id']}/again", files={"photo": ("a.png", stream.getvalue(), "image/png")})
    assert refused.status_code == 422
    assert "takes a photo" in refused.json()["error"]
