"""What a profile asks for is made or refused in words; what a receiver does not take is refused with what fits."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.beyond import Beyond, measured, packing_that_fits
from silent_loom.core.delivery.channel import parse_channel
from silent_loom.core.delivery.completing import check_maps, completed
from silent_loom.core.delivery.fitting import fit
from silent_loom.core.delivery.profile import FileSpec, Limits, Profile
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import read
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import OnePicture


def asking(*channels: str, optional: bool = False, limits: Limits | None = None) -> Profile:
    files = [FileSpec(suffix=f"f{k}", channels=(parse_channel(c),), optional=optional) for k, c in enumerate(channels)]
    return Profile(name="mine", title="Mine", files=tuple(files), limits=limits or Limits())


@pytest.fixture(scope="module")
def gravel() -> tuple[Evaluator, Weave]:
    return Evaluator(OnePicture(None)), woven_from("gravel")  # type: ignore[arg-type]


def test_maps_that_are_read_off_the_relief_are_made_for_a_profile(gravel: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = gravel
    manifest = bake(evaluator, weave, asking("thickness", "occlusion", "cavity"), tmp_path / "s", "deck", BakeOrder(64))
    for k, name in enumerate(("thickness", "occlusion", "cavity")):
        delivered = read(tmp_path / "s" / f"deck_f{k}.png").data()
        maker = {"cavity": "curvature"}.get(name, name)
        own = weave if name == "occlusion" else weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=maker))})
        live = evaluator.ask(own, name, 64).pixels
        assert np.abs(delivered - live).max() <= 0.51 / 255, name
        assert np.ptp(delivered) > 0.05
    assert {r.get("step") for r in manifest["weave"]["steps"]} >= {"thickness", "curvature"}


def test_a_name_that_nothing_makes_stops_a_delivery_and_names_what_is_near(
    gravel: tuple[Evaluator, Weave], tmp_path: Path
) -> None:
    evaluator, weave = gravel
    with pytest.raises(LoomError, match=r"roughnes: .*Did you mean roughness\?.*There is base, height"):
        bake(evaluator, weave, asking("base.r", "roughnes"), tmp_path / "s", "deck", BakeOrder(64))
    assert not (tmp_path / "s").exists()
    assert completed(evaluator, weave, asking("roughnes"), leave=["roughnes"]) is weave
    assert completed(evaluator, weave, asking("moss", optional=True)) is weave


def test_without_a_relief_what_is_read_off_it_is_refused_and_what_is_neutral_stays_so() -> None:
    flat = Weave(steps=(StepEntry(step="blank"),))
    evaluator = Evaluator(OnePicture(None))  # type: ignore[arg-type]
    assert completed(evaluator, flat, asking("normal.x", "metallic", "occlusion")) is flat
    with pytest.raises(LoomError, match=r"cavity: .*read off the height, and there is no height"):
        completed(evaluator, flat, asking("cavity"))
    assert completed(evaluator, flat, asking("cavity"), leave=["cavity"]) is flat


def test_finished_maps_are_held_against_a_profile_too() -> None:
    check_maps({"base": 1, "height": 1}, profile("plain"))
    with pytest.raises(LoomError, match=r"moss: .*nothing makes it"):
        check_maps({"base": 1}, asking("base.r", "moss"))


def test_what_a_receiver_does_not_take_is_refused_before_anything_is_made(
    gravel: tuple[Evaluator, Weave], tmp_path: Path
) -> None:
    evaluator, weave = gravel
    tight = profile("plain").model_copy(update={"limits": Limits(files=4, size=64)})
    order = BakeOrder(64, anyway=False)
    with pytest.raises(Beyond, match=r"at most 4 pictures, and there would be 6.*This would fit: occlusion, roughness, metallic"):
        bake(evaluator, weave, tight, tmp_path / "s", "deck", order)
    assert not (tmp_path / "s").exists()
    done = bake(evaluator, weave, tight, tmp_path / "f", "deck", BakeOrder(64, anyway=False, fitting=True))
    assert len([f for f in done["files"] if "channels" in f]) == 4
    assert not [w for w in done["warnings"] if "beyond" in w]
    with pytest.raises(Beyond, match="No other packing fits: ask for a smaller size"):
        bake(evaluator, weave, tight, tmp_path / "l", "deck", BakeOrder(128, anyway=False))
    told = bake(evaluator, weave, tight, tmp_path / "a", "deck", BakeOrder(64))
    assert [w for w in told["warnings"] if "beyond" in w]


def test_files_that_are_too_many_bytes_leave_nothing_behind(gravel: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = gravel
    tight = asking("base.r", "height", limits=Limits(total_mb=0.001))
    with pytest.raises(Beyond, match=r"at most 0.001 MB"):
        bake(evaluator, weave, tight, tmp_path / "s", "deck", BakeOrder(64, anyway=False))
    assert not (tmp_path / "s").exists() or not any((tmp_path / "s").iterdir())


def test_what_leaves_something_out_comes_last() -> None:
    have = ["base", "normal", "height", "roughness", "metallic", "occlusion"]
    small = profile("plain").model_copy(update={"limits": Limits(files=3)})
    taken = packing_that_fits(small, have, measured(have, fit(small, (1.0, 1.0), 64)))
    assert [p.consent for p in taken] == [False, True]
    assert json.loads(taken[-1].profile.model_dump_json())["files"]
