"""Ready-made rows, the words that lead to steps, and Blur or sharpen."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

import silent_loom
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tone.soften import Soften, SoftenSettings
from silent_loom.core.steps.tone.where import Where
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.ready import ready, ready_group, with_ready
from tests.conftest import OnePicture, spectrum
from tests.core.maps.test_maps import run

EVALUATOR = Evaluator(OnePicture(None))  # type: ignore[arg-type]


@pytest.mark.parametrize("name", [r.name for r in ready().values() if not r.keeps_out])
def test_ready_made_rows_are_good_at_their_first_touch(name: str) -> None:
    weave = woven_from("ashlar")
    plan = EVALUATOR.plan(weave)
    group = ready_group(name, plan.geometry.size_mm[0], plan.threads)
    after = weave.model_copy(update={"steps": (*weave.steps, group)})
    assert EVALUATOR.plan(after).error() is None
    before, now = (EVALUATOR.ask(w, "base", 192).pixels for w in (weave, after))
    changed = np.abs(now - before).max(2)
    assert 0.02 < (changed > 0.01).mean() < 0.9, "it shows, and does not drown the surface"
    mask = next(r.mask.thread for r in reversed(group.rows) if r.mask)
    plane = EVALUATOR.ask(after, mask, 192).pixels[..., 0]
    here = plane > np.percentile(plane, 1) + 0.02
    soft = (here & (plane < plane.max() * 0.9)).sum() / max(1, here.sum())
    assert soft > 0.3, "borders fade"
    assert (EVALUATOR.ask(after, "height", 64).pixels == EVALUATOR.ask(weave, "height", 64).pixels).all()


def test_ready_made_rows_say_what_they_need_and_do_without_roughness() -> None:
    with pytest.raises(WeaveError, match="needs a height"):
        ready_group("grime", 100.0, ["base"])
    with pytest.raises(WeaveError, match="no ready-made rows called 'rust'"):
        ready_group("rust", 100.0, [])
    assert "grade" not in [r.step for r in ready_group("grime", 100.0, ["base", "height"]).rows]
    assert ready_group("grime", 100.0, ["base", "height"]).rows[0].settings["scale_mm"] == 2.5


def test_lichen_is_picked_once_and_gets_a_height_and_a_roughness_of_its_own(weave: Weave, evaluator: Evaluator) -> None:
    before = {t: evaluator.ask(weave, t, 128).pixels for t in ("height", "roughness")}
    plan = evaluator.plan(weave)
    apart = with_ready(weave, "apart", plan.geometry.size_mm[0], plan.threads)
    steps = [r.step for r in apart.rows()]
    assert steps.index("mark") < steps.index("height") < steps.index("noise") < steps.index("normal")
    assert steps.index("roughness") < steps.index("grade")
    assert all(apart.able(can) is not None for can in ("mask", "depth"))
    assert not [str(r.error) for r in evaluator.plan(apart).rows if r.error]
    # Nothing is picked yet: nothing has changed
    assert np.allclose(evaluator.ask(apart, "height", 128).pixels, before["height"], atol=1e-5)
    hand = apart.able("mask")
    assert hand is not None
    square = {"kind": "outline", "points": [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]]}
    picked = apart.with_settings(hand.id, {"regions": [square]})
    mask = evaluator.ask(picked, "apart", 128).plane() > 0.99
    assert 0.15 < mask.mean() < 0.35
    assert np.allclose(evaluator.ask(picked, "roughness", 128).plane()[mask], 0.9, atol=1e-4)
    assert not np.allclose(evaluator.ask(picked, "height", 128).plane()[mask], before["height"][..., 0][mask], atol=1e-3)
    twice = with_ready(picked, "apart", plan.geometry.size_mm[0], evaluator.plan(picked).threads)
    assert sorted(r.settings["name"] for r in twice.rows() if r.step == "mark") == ["apart", "apart_2"]


def test_rows_of_before_keep_the_borders_that_they_had() -> None:
    assert Where().upgrade({"by": "crevices"}, 2) == {"by": "crevices", "start": 0.45, "end": 0.55}
    assert Where().upgrade({"start": 0.1}, 0)["start"] == 0.1
    assert Where().upgrade({}, 3) == {}


def test_every_step_is_found_by_at_least_five_plain_words() -> None:
    few = {n: s.words_for_it for n, s in registry.steps().items() if len(s.words_for_it) < 5}
    assert few == {}


FIRST = {
    "crevices": "Grime in hollows", "blur": "Blur or sharpen", "sharpen": "Blur or sharpen", "invert": "Grade Tone",
    "edges": "Worn edges", "scratches": "Scratches", "normal map": "Normal", "normal": "Normal", "height map": "Height",
    "roughness map": "Roughness", "ao": "Occlusion", "flood fill": "Elements", "cloning": "Repair", "dust": "Dust on top",
    "hsl": "Tone", "metalness": "Metallic", "white balance": "Even light", "grime": "Grime in hollows",
}  # fmt: skip


def test_trade_words_lead_to_their_step() -> None:
    node = shutil.which("node")
    assert node, "Node comes with npm, which the tests need anyway"
    palette = Path(silent_loom.__file__).parent / "web/static/js/bench/weave/palette.js"
    steps = [{"title": s.title, "says": s.sentence, "words": s.words_for_it} for s in registry.steps().values()]
    steps += [{"title": r.title, "says": r.says, "words": r.words} for r in ready().values()]
    code = (
        f"import {{ wordsOf, scoreOf }} from {json.dumps(palette.as_uri())};"
        f"const steps = {json.dumps(steps)}, asked = {json.dumps([*FIRST, 'dirt'])};"
        "const best = (q) => { const s = steps.map((x) => [scoreOf(x, wordsOf(q)), x.title]).filter(([n]) => n > 0);"
        "const most = Math.max(...s.map(([n]) => n)); return [s.find(([n]) => n === most)?.[1], s.map(([, t]) => t)]; };"
        "console.log(JSON.stringify(Object.fromEntries(asked.map((q) => [q, best(q)]))));"
    )
    done = subprocess.run([node, "--input-type=module", "-e", code], capture_output=True, text=True, timeout=60, check=True)
    found = json.loads(done.stdout)
    assert {q: found[q][0] for q, wanted in FIRST.items() if found[q][0] not in wanted} == {}
    assert "Grime in hollows" in found["dirt"][1]


def test_blur_and_sharpen_are_each_others_direction() -> None:
    plane = spectrum(128, 1.0, 4)
    image = Image(plane[..., None], Kind.DATA, (128.0, 128.0), True)
    soft = run(Soften(), SoftenSettings(thread="height", width_mm=4.0, amount=1.0), height=image)["height"].pixels[..., 0]
    sharp = run(Soften(), SoftenSettings(thread="height", width_mm=4.0, amount=-1.0), height=image)["height"].pixels[..., 0]
    assert soft.std() < 0.9 * plane.std() < plane.std() < sharp.std()
    assert np.allclose((soft + sharp) / 2, plane, atol=1e-4)
    assert abs(soft.mean() - plane.mean()) < 1e-4


def test_normals_are_blurred_as_slopes() -> None:
    height = Image(spectrum(128, 1.5, 5)[..., None] * 2, Kind.DATA, (128.0, 128.0), True)
    soft = run(Soften(), SoftenSettings(thread="height", width_mm=6.0), height=height)["height"]
    first = run(Soften(), SoftenSettings(thread="normal", width_mm=6.0), normal=from_height(height))["normal"].pixels
    assert np.abs(np.linalg.norm(first, axis=2) - 1).max() < 1e-5
    assert np.degrees(np.arccos(np.clip((first * from_height(soft).pixels).sum(2), -1, 1))).max() < 0.5
