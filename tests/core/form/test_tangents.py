"""Tangent space against the reference package of MikkTSpace."""

from __future__ import annotations

import struct
import subprocess
from pathlib import Path

import numpy as np
import pytest
import trimesh
from numpy.typing import NDArray

from silent_loom.core.form.model import Model, Table
from silent_loom.core.form.normals import corner_normals, unit
from silent_loom.core.form.tangents import frames
from silent_loom.core.form.uv.islands import uv_areas
from silent_loom.demo.models import MODELS

REFERENCE = Path(__file__).parents[3] / "tools" / "vendor" / "node_modules" / "mikktspace"
SCRIPT = """
const { generateTangents } = require(process.argv[1]);
const fs = require('fs'), b = fs.readFileSync(process.argv[2]), n = b.readUInt32LE(0);
const f = new Float32Array(b.buffer.slice(b.byteOffset + 4, b.byteOffset + 4 + n * 32));
const t = generateTangents(f.slice(0, 3 * n), f.slice(3 * n, 6 * n), f.slice(6 * n, 8 * n));
fs.writeFileSync(process.argv[3], Buffer.from(t.buffer, t.byteOffset, t.byteLength));
"""


def reference(
    folder: Path, corners: NDArray[np.float64], normals: NDArray[np.float64], uv: NDArray[np.float64]
) -> NDArray[np.float32]:
    count = 3 * len(corners)
    body = struct.pack("<I", count) + b"".join(v.astype("<f4").tobytes() for v in (corners, normals, uv))
    (folder / "in.bin").write_bytes(body)
    subprocess.run(
        ["node", "-e", SCRIPT, str(REFERENCE), str(folder / "in.bin"), str(folder / "out.bin")], check=True, capture_output=True
    )
    return np.fromfile(folder / "out.bin", "<f4").reshape(-1, 3, 4)


def ball(uv: NDArray[np.float64], mesh: trimesh.Trimesh) -> Model:
    zero = np.zeros(len(mesh.faces), np.int32)
    index = mesh.faces.astype(np.int32)
    return Model(Table(np.asarray(mesh.vertices), index), zero, zero, uvs={"UV": Table(uv, index)})


def shapes() -> dict[str, Model]:
    torus = trimesh.creation.torus(1.0, 0.4, 48, 24)
    rng = np.random.default_rng(3)
    sphere = trimesh.creation.icosphere(3)
    v = sphere.vertices
    round_uv = np.stack([np.arctan2(v[:, 0], v[:, 2]) / (2 * np.pi) + 0.5, np.arccos(np.clip(v[:, 1], -1, 1)) / np.pi], 1)
    return {
        "torus with random UVs": ball(rng.random((len(torus.vertices), 2)), torus),
        "sphere": ball(round_uv, sphere),
        **{name: make(1) for name, make in MODELS.items()},
    }


@pytest.mark.parametrize("name", sorted(shapes()))
@pytest.mark.parametrize("crease", [180.0, 30.0])
def test_frames_are_those_of_the_reference(tmp_path: Path, name: str, crease: float) -> None:
    model = shapes()[name]
    normals, uv = corner_normals(model, crease), model.uv().at_corners()
    want = reference(tmp_path, model.corners, normals, uv)
    got = frames(model.corners, normals, uv)
    counts = np.abs(uv_areas(uv)) > 1e-7  # what is laid out without an area shows no texel
    # Only corners whose neighbours all have an area: the reference groups the others as they come
    degrees = np.degrees(np.arccos(np.clip((want[..., :3] * got.tangent).sum(-1), -1, 1)))[counts]
    assert (np.sign(want[..., 3]) == got.sign)[counts].all()
    assert np.quantile(degrees, 0.995) < 0.5
    assert degrees.mean() < 0.5


def test_mirrored_islands_turn_the_bitangent_and_nothing_else() -> None:
    corners = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]], [[2, 0, 0], [3, 0, 0], [2, 1, 0]]])
    up = np.broadcast_to(np.array([0, 0, 1.0]), (2, 3, 3))
    uv = np.array([[[0, 0], [1, 0], [0, 1.0]], [[1, 0], [0, 0], [1, 1]]])
    found = frames(corners, up, uv)
    assert found.sign[:, 0].tolist() == [1, -1]
    assert found.tangent[:, 0].tolist() == [[1, 0, 0], [-1, 0, 0]]
    for k, v_up in ((0, 1.0), (1, 1.0)):  # along v on the surface, whether mirrored or not
        bitangent = found.sign[k, 0] * np.cross(up[k, 0], found.tangent[k, 0])
        assert bitangent.tolist() == [0, v_up, 0]


def test_every_frame_is_whole() -> None:
    model = MODELS["lifebelt"](1)
    normals = corner_normals(model)
    found = frames(model.corners, normals, model.uv().at_corners())
    assert np.allclose(np.linalg.norm(found.tangent, axis=-1), 1)
    assert np.abs((found.tangent * unit(normals)).sum(-1)).max() < 1e-6
