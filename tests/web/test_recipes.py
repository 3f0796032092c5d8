"""Recipes, words, batches, variations and materials made elsewhere over HTTP."""

from __future__ import annotations

import io
import json
import time
from typing import Any

import numpy as np
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from silent_loom.core.weave.rows.saved import shipped
from tests.web.test_api import change, client, material  # noqa: F401


def png(seed: int = 0) -> bytes:
    rng = np.random.default_rng(seed)
    stream = io.BytesIO()
    Pillow.fromarray(rng.integers(90, 160, (64, 80, 3)).astype(np.uint8)).save(stream, "PNG")
    return stream.getvalue()


def applied(client: TestClient, name: str, files: list[tuple[str, bytes]] | None = None, **form: Any) -> dict[str, Any]:  # noqa: F811
    sent = [("photos", (n, io.BytesIO(b), "image/png")) for n, b in files or []] or [("photos", ("", b"", ""))]
    sent = sent if files else []
    made = client.post(f"/api/recipes/{name}/material", data=form, files=sent or None)
    assert made.status_code == 201, made.text
    found: dict[str, Any] = made.json()
    return found


def test_every_recipe_has_its_picture_and_dials(client: TestClient) -> None:  # noqa: F811
    told = client.get("/api/recipes").json()["recipes"]
    assert [r["name"] for r in told] == list(shipped())
    for r in told:
        picture = client.get(r["picture"])
        assert picture.status_code == 200, r["name"]
        assert picture.content[8:12] == b"WEBP"
        assert len(r["dials"]) >= 4


def test_a_recipe_becomes_a_material(client: TestClient) -> None:  # noqa: F811
    made = applied(client, "carpet", title="Mess deck", seed=3, dials=json.dumps({"figure": 0.1}))
    assert made["name"] == "Mess deck"
    group = next(r for r in made["weave"]["rows"] if r["group"])
    assert next(d for d in group["dials"] if d["title"] == "Figure")["value"] == 0.1
    assert not any(r["error"] for r in made["weave"]["rows"])
    other = applied(client, "carpet")
    seeds = [next(r for r in m["weave"]["rows"] if r["step"] == "stones")["settings"]["seed"] for m in (made, other)]
    assert seeds[0] != seeds[1]
    for name, form, words in (
        ("carpet", {"dials": "{"}, "no dials"),
        ("carpet", {"dials": '{"wings": 1}'}, "no such dial"),
        ("carpet", {"dials": '{"figure": 7}'}, "from 0 to 1"),
        ("photo-stone", {}, "wants a photo"),
    ):
        refused = client.post(f"/api/recipes/{name}/material", data=form)
        assert refused.status_code == 422, refused.text
        assert words in refused.json()["error"]
    assert client.post("/api/recipes/nope/material").status_code == 404


def test_a_photo_goes_through_a_recipe(client: TestClient) -> None:  # noqa: F811
    made = applied(client, "photo-plaster", [("north_wall.png", png())], dials='{"relief": 1.0}')
    assert made["name"] == "North wall"
    assert made["why"]
    picture = client.get(f"/api/materials/{made['id']}/map/height.png?size=64")
    assert picture.status_code == 200


def test_a_weave_is_saved_applied_changed_and_brought_up(client: TestClient) -> None:  # noqa: F811
    first = applied(client, "photo-plaster", [("a.png", png())])
    ident = first["id"]
    kept = client.post(f"/api/materials/{ident}/recipe", json={"title": "Our walls", "says": "For walls.", "words": "wall lime"})
    assert kept.status_code == 201, kept.text
    assert kept.json()["photos"] == 1
    own = client.get("/api/recipes").json()["recipes"][0]
    assert (own["title"], own["own"], own["words"]) == ("Our walls", True, ["wall", "lime"])
    assert client.get(own["picture"]).content[:8] == b"\x89PNG\r\n\x1a\n"
    second = applied(client, "our_walls", [("b.png", png(2))])
    assert client.get(f"/api/materials/{second['id']}/follows").json() == {"recipe": "Our walls", "version": 1, "newest": 1}
    height = next(r for r in first["weave"]["rows"] if r["step"] == "tone")
    changed = change(client, first, kind="settings", step_id=height["id"], settings={"hue": 12.0}).json()
    mine = change(client, second, kind="settings", step_id=height["id"], settings={"contrast": 9.0}).json()
    again = client.post(f"/api/materials/{ident}/recipe", json={"title": "Our walls"}).json()
    assert again["behind"] == 1
    assert client.get(f"/api/materials/{second['id']}/follows").json()["newest"] == 2
    told = client.post("/api/recipes/our_walls/follow").json()["materials"]
    assert [m["id"] for m in told] == [second["id"]]
    after = client.get(f"/api/materials/{second['id']}").json()
    tone = next(r for r in after["weave"]["rows"] if r["id"] == height["id"])["settings"]
    assert (tone["hue"], tone["contrast"]) == (12.0, 9.0)
    assert after["can_undo"]
    assert after["head"] != mine["head"]
    assert changed["head"]
    assert client.post("/api/recipes/our_walls/follow").json()["materials"] == []
    assert client.delete("/api/recipes/our_walls").status_code == 200
    assert all(not r["own"] for r in client.get("/api/recipes").json()["recipes"])
    assert client.post(f"/api/materials/{second['id']}/follow").status_code == 404


def test_words_make_a_material(client: TestClient) -> None:  # noqa: F811
    told = client.post("/api/words", json={"phrase": "wet zorbly slate", "count": 3}).json()
    assert told["not_understood"] == ["zorbly"]
    assert len(told["results"]) == 3
    assert told["there_already"][0]["name"] == "slate-roof"
    picture = client.get("/api/words/picture.png", params={"phrase": "wet zorbly slate", "which": 1})
    assert picture.content[:4] == b"\x89PNG"
    made = client.post("/api/materials/words", json={"phrase": "wet zorbly slate", "which": 1})
    assert made.status_code == 201
    assert made.json()["name"] == "Wet zorbly slate"
    again = client.post("/api/words", json={"phrase": "slate"}).json()
    assert [m["name"] for m in again["in_the_library"]] == ["Wet zorbly slate"]
    assert client.post("/api/words", json={"phrase": "zorbly"}).status_code == 422
    assert client.post("/api/materials/words", json={"phrase": "slate", "which": 11}).status_code == 201
    assert client.get("/api/words/picture.png", params={"phrase": "   "}).status_code == 422


def test_a_sheet_of_variations(client: TestClient) -> None:  # noqa: F811
    made = applied(client, "slate-roof")
    path = f"/api/materials/{made['id']}"
    about = client.get(f"{path}/variations").json()
    assert about["seeds"]
    lichen = next(d["id"] for d in about["dials"] if d["name"] == "lichen")
    sheet = client.post(f"{path}/variations", json={"count": 4, "dials": [lichen]}).json()
    assert len(sheet["variants"]) == 4
    asked = {"entry": sheet["entry"], "choice": json.dumps(sheet["variants"][0])}
    one = client.get(f"{path}/variation.png", params=asked)
    assert one.content[:4] == b"\x89PNG"
    assert client.get(f"{path}/variation.png", params=asked).content == one.content
    between = {**sheet["variants"][0], "other": sheet["variants"][1], "share": 0.5}
    half = client.get(f"{path}/variation.png", params={**asked, "choice": json.dumps(between)})
    assert half.content != one.content
    kept = client.post(f"{path}/variation", json={"entry": sheet["entry"], **sheet["variants"][2]}).json()
    assert kept["can_undo"]
    assert "seed 3" in kept["label"]
    anew = client.post(f"{path}/variation", json={"entry": sheet["entry"], **between, "anew": True}).json()
    assert anew["id"] != made["id"]
    late = client.post(f"{path}/variation", json={"entry": sheet["entry"], **sheet["variants"][1]})
    assert late.status_code == 409
    for wrong in ("{", "[]", '{"seed": "x"}', '{"dials": {"nope": 1}}'):
        assert client.get(f"{path}/variation.png", params={**asked, "choice": wrong}).status_code == 422, wrong
    blank = client.post("/api/materials/blank", json={}).json()
    assert client.post(f"/api/materials/{blank['id']}/variations", json={}).status_code == 422


def test_a_batch_over_http(client: TestClient) -> None:  # noqa: F811
    stored = [client.post("/api/photos", files={"photo": (f"{k}.png", io.BytesIO(png(k)), "image/png")}).json() for k in range(2)]
    photos = [{"digest": s["digest"], "name": s["name"]} for s in stored]
    photos.append({"digest": "f" * 64, "name": "gone.png"})
    begun = client.post("/api/batches", json={"recipe": "photo-concrete", "photos": photos, "size": 64})
    assert begun.status_code == 202, begun.text
    until = time.monotonic() + 120
    told: dict[str, Any] = {}
    while time.monotonic() < until:
        told = client.get("/api/batches").json()["batches"][0]
        if told["state"] not in ("waiting", "running"):
            break
        time.sleep(0.05)
    assert told["state"] == "done", told
    rows = told["result"]["rows"]
    assert [r["state"] for r in rows] == ["failed", "done", "done"]
    assert rows[0]["photo"] == "gone.png"
    assert all(client.get(f"/api/materials/{r['material']}").status_code == 200 for r in rows[1:])
    assert client.post("/api/photos", files={"photo": ("x.png", io.BytesIO(b"no"), "image/png")}).status_code == 415
    assert client.post("/api/batches", json={"recipe": "carpet", "photos": photos}).status_code == 422


def test_a_material_made_elsewhere_is_taken_in(client: TestClient) -> None:  # noqa: F811
    told = {
        "asset": {"version": "2.0"},
        "materials": [
            {
                "name": "Deck",
                "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}, "baseColorFactor": [0.5, 0.5, 0.5, 1]},
                "extensions": {"KHR_materials_clearcoat": {}},
            }
        ],
        "textures": [{"source": 0}],
        "images": [{"uri": "textures/deck.png"}],
    }
    files = [("files", ("deck.gltf", io.BytesIO(json.dumps(told).encode()), "")), ("files", ("deck.png", io.BytesIO(png()), ""))]
    made = client.post("/api/elsewhere", files=files)
    assert made.status_code == 201, made.text
    (one,) = made.json()["materials"]
    assert (one["name"], one["left_out"]) == ("Deck", ["a clear coat"])
    assert client.get(f"/api/materials/{one['id']}/map/base.png?size=64").status_code == 200
    assert "a clear coat" in client.get(f"/api/materials/{one['id']}").json()["origin"]["note"]
    alone = client.post("/api/elsewhere", files=files[:1])
    assert alone.status_code == 415
    assert client.post("/api/elsewhere", files=[("files", ("a.png", io.BytesIO(png()), ""))]).status_code == 415
