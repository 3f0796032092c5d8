"""Models over HTTP: in, checked, unwrapped, baked, laid on, out again; what is wrong is said."""

from __future__ import annotations

import io
import time
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image as Pillow

from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.form.model import plate
from silent_loom.core.form.reading.table import read_model
from silent_loom.demo.models import buoy
from tests.web.test_api import client, material  # noqa: F401


def brought(client: TestClient, name: str, body: bytes) -> dict[str, Any]:  # noqa: F811
    answer = client.post("/api/models", files={"model": (name, body)})
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def ended(client: TestClient, job: dict[str, Any]) -> dict[str, Any]:  # noqa: F811
    until = time.monotonic() + 120
    while time.monotonic() < until:
        found: dict[str, Any] = client.get(f"/api/jobs/{job['id']}").json()
        if found["state"] in ("done", "failed", "stopped"):
            return found
        time.sleep(0.05)
    raise AssertionError("it never ended")


def test_the_page_is_there(client: TestClient) -> None:  # noqa: F811
    assert "UV sheet" in client.get("/models").text


def test_a_model_is_checked_with_its_layout_as_lines(client: TestClient) -> None:  # noqa: F811
    model = brought(client, "buoy.glb", glb(buoy(), {}))
    found = client.get(f"/api/models/{model['id']}/check", params={"size": 512, "wish": 100}).json()
    assert {"overlapping", "outside", "wish"} <= {f["kind"] for f in found["check"]["faults"]}
    assert len(found["outlines"]) == len(found["check"]["islands"])
    for island, lines in zip(found["check"]["islands"], found["outlines"], strict=True):
        corners = np.array([p for line in lines for p in line])
        assert corners.min(0) == pytest.approx(island["box"][:2], abs=1e-4)
        assert corners.max(0) == pytest.approx(island["box"][2:], abs=1e-4)
    assert client.get(f"/api/models/{model['id']}/check", params={"uv": "third"}).status_code == 422
    assert client.get("/api/models/nobody/check").status_code == 404


def test_from_a_fault_to_a_model_with_a_material(client: TestClient, material: dict[str, Any], tmp_path: Path) -> None:  # noqa: F811
    model = brought(client, "buoy.glb", glb(buoy(), {}))
    bake = {"model": model["id"], "maps": ["normal", "occlusion"], "size": 256, "rays": 4}
    refused = client.post("/api/models/bake", json=bake)
    assert refused.status_code == 422
    assert "laid over something else" in refused.json()["error"] or "edge of the UV square" in refused.json()["error"]
    points = client.post("/api/models/points", json=bake).json()["points"]
    assert [p["name"] for p in points][:2] == ["mesh", "uvs"]
    assert not points[1]["good"]
    settings = {"size": 256, "padding": 4}
    made = ended(client, client.post("/api/models/unwrap", json={"model": model["id"], "settings": settings}).json())
    assert made["state"] == "done", made
    flat = made["result"]["model"]
    assert client.get(f"/api/models/{flat}/check", params={"size": 256}).json()["check"]["carries"]
    assert any(m["id"] == model["id"] for m in client.get("/api/models").json()["models"]), "the old one stays"
    dense = brought(client, "dense.glb", glb(buoy(2), {}))
    bake |= {"model": flat, "dense": [dense["id"]]}
    baked = ended(client, client.post("/api/models/bake", json=bake).json())
    assert baked["state"] == "done", baked
    files = [f["file"] for f in baked["result"]["files"]]
    assert [f["map"] for f in baked["result"]["files"]] == ["normal", "occlusion"]
    assert client.get(f"/api/models/made/{baked['id']}/{files[0]}").headers["content-type"] == "image/png"
    whole = zipfile.ZipFile(io.BytesIO(client.get(f"/api/models/made/{baked['id']}/all.zip").content))
    assert set(files) <= set(whole.namelist())
    lay = {"model": flat, "material": material["id"], "by": "sides", "size": 64}
    over = [{"material": material["id"], "where": ["altitude=0.4..0.6"]}]
    laid = ended(client, client.post("/api/models/lay", json={**lay, "over": over}).json())
    assert laid["state"] == "done", laid
    body = client.get(f"/api/models/made/{laid['id']}/model.glb").content
    (tmp_path / "out.glb").write_bytes(body)
    out = read_model(tmp_path / "out.glb")
    assert len(out) == model["triangles"]
    assert all("base" in s.textures for s in out.slots)
    for name, endings in (("model-obj.zip", {"obj", "mtl", "png"}), ("model-usd.zip", {"usda", "png"})):
        given = zipfile.ZipFile(io.BytesIO(client.get(f"/api/models/made/{laid['id']}/{name}").content))
        assert {n.rpartition(".")[2] for n in given.namelist()} == endings
    thrown = {**lay, "by": "camera", "around_deg": 30.0, "width_mm": 300.0}
    assert ended(client, client.post("/api/models/lay", json=thrown).json())["state"] == "done"
    change = client.get(f"/api/models/made/{laid['id']}/change").json()
    assert change["mean"] > 1
    assert "one colour" in change["words"]
    for which in ("before", "changed"):
        assert client.get(f"/api/models/made/{laid['id']}/change/{which}.png").content[:4] == b"\x89PNG"
    assert client.get(f"/api/models/made/{baked['id']}/change").status_code == 422
    stretch = client.get(f"/api/models/{flat}/stretch.png")
    assert Pillow.open(io.BytesIO(stretch.content)).size == (1024, 1024)


@pytest.mark.parametrize("name", ["..%2F..%2Floom.sqlite", "nothing.png"])
def test_only_files_of_a_job_are_given(client: TestClient, name: str) -> None:  # noqa: F811
    assert client.get(f"/api/models/made/0123456789ab/{name}").status_code in (404, 422)


@pytest.mark.parametrize(
    ("name", "body", "words"),
    [
        ("a.obj", b"v 0 0 0\n", "no surface"),
        ("a.fbx", b"Kaydara", "no model that can be read"),
        ("a.glb", b"glTF\x02\0\0\0", "no glTF"),
        ("a.stl", b"solid\n", "promises"),
        ("a.obj", b"mtllib ../../x.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "does not lie beside it"),
    ],
)
def test_what_is_no_model_is_refused_in_a_sentence(client: TestClient, name: str, body: bytes, words: str) -> None:  # noqa: F811
    before = len(client.get("/api/models").json()["models"])
    answer = client.post("/api/models", files={"model": (name, body)})
    assert answer.status_code == 415
    assert words in answer.json()["error"]
    assert len(client.get("/api/models").json()["models"]) == before


def test_a_model_is_put_under_a_material(client: TestClient, material: dict[str, Any]) -> None:  # noqa: F811
    model = brought(client, "cap.glb", glb(plate(), {}))
    done = client.post(f"/api/materials/{material['id']}/model", json={"model": model["id"], "base": material["head"]})
    assert done.status_code == 200, done.text
    on = done.json()["weave"]["on"]
    assert on["name"] == "cap.glb"
    parts = client.get(f"/api/models/of/{on['model']}").json()
    assert (parts["triangles"], parts["uv_sets"]) == (len(plate()), ["UV"])
    mesh = client.get(f"/api/models/of/{on['model']}/mesh")
    assert mesh.headers["x-own-uv"] == "1"
    assert float(mesh.headers["x-unit-mm"]) > 0
    assert client.get(f"/api/models/of/{on['model']}/mesh", params={"uv": "third"}).status_code == 422
    assert client.get(f"/api/models/of/{'0' * 64}").status_code in (404, 422)
    figures = client.get(f"/api/materials/{material['id']}/figures").json()
    assert not [n for notes in figures["maps"].values() for n in notes if "seamless" in n]
