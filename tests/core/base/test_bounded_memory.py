"""A bounded memory, and the fields that it keeps for the next touch of a dial."""

from __future__ import annotations

import threading
from dataclasses import fields
from hashlib import blake2b
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.patterns import alone, evaluator
from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.parallel import Cancelled, Task
from silent_loom.core.patterns import cellular, noise
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.weave.rows.beginnings import beginnings


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 60)), max_size=60))
@settings(max_examples=60, deadline=None)
def test_it_never_holds_more_than_it_may(asked: list[tuple[int, int]]) -> None:
    kept: Memory[Any, Any] = Memory(most_bytes=100, largest=40)
    for key, size in asked:
        answer = kept.answer((key, size), lambda key=key, size=size: (key, size), lambda made: made[1])  # type: ignore[misc]
        assert answer == (key, size)
        assert kept.held <= 100
        assert all(made[1] <= 40 for made in kept.answers), "what is too large is not kept"
        assert kept.held == sum(made[1] for made in kept.answers)


def test_the_one_not_used_for_longest_goes_first() -> None:
    kept: Memory[Any, Any] = Memory(most_bytes=3, largest=1)
    for key in ("a", "b", "c", "a", "d"):
        kept.answer(key, lambda key=key: key, lambda made: 1)  # type: ignore[misc]
    assert kept.answers == ["c", "a", "d"]
    kept.forget()
    assert (kept.answers, kept.held) == ([], 0)


def test_so_many_are_kept_and_a_new_answer_takes_the_place_of_the_old() -> None:
    memory: Memory[str, int] = Memory(2)
    for key, answer in (("a", 1), ("b", 2), ("a", 3), ("c", 4)):
        memory.put(key, answer)
    assert (memory.get("a"), memory.get("b"), memory.get("c"), len(memory)) == (3, None, 4, 2)
    memory.keep_if(lambda answer: answer > 3)
    assert memory.answers == [4]


def test_many_who_ask_at_once_get_the_same() -> None:
    kept: Memory[Any, Any] = Memory()
    got: list[int] = []
    threads = [
        threading.Thread(target=lambda: got.extend(kept.answer(k % 3, lambda k=k: k % 3, lambda made: 8) for k in range(200)))  # type: ignore[misc]
        for _ in range(6)
    ]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert sorted(got) == sorted(k % 3 for k in range(200) for _ in range(6))
    assert kept.held == 24


def test_what_was_cancelled_is_not_kept(monkeypatch: pytest.MonkeyPatch) -> None:
    kept: Memory[Any, Any] = Memory()
    monkeypatch.setattr(noise, "FIELDS", kept)
    task = Task()
    task.cancel()
    ground = Ground.of(64, 64, (100.0, 100.0))
    with pytest.raises(Cancelled):
        noise.noise(ground, (4, 4), task=task)
    assert not kept.answers
    assert noise.noise(ground, (4, 4)).any()


def test_what_is_asked_otherwise_is_another(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(noise, "FIELDS", Memory())
    monkeypatch.setattr(cellular, "FIELDS", Memory())
    ground = Ground.of(64, 64, (100.0, 100.0))
    first = noise.noise(ground, (4, 4))
    assert noise.noise(ground, (4, 4)) is first
    for more in ({"octaves": 3}, {"gain": 0.7}, {"how": "ridged"}, {"valued": True}, {"seed": 2}):
        assert not np.array_equal(noise.noise(ground, (4, 4), **more), first), more  # type: ignore[arg-type]
    warp = noise.stray(ground, (4, 4), 5.0, 1)
    assert noise.stray(ground, (4, 4), 5.0, 1) is warp
    assert noise.stray(ground, (4, 4), 6.0, 1) is not warp
    cells = cellular.cellular(ground, (4, 4), warp=warp)
    assert cellular.cellular(ground, (4, 4), warp=warp) is cells
    straight = cellular.cellular(ground, (4, 4))
    assert not np.array_equal(straight.border, cells.border)
    same = cellular.cellular(ground, (4, 4), warp=warp.copy())
    assert np.array_equal(same.border, cells.border), "the same warp in another array is drawn anew, and the same"


def print_of(samples: Any) -> bytes:
    return blake2b(np.ascontiguousarray(samples).data, digest_size=16).digest()


def arrays(answer: Any) -> list[Any]:
    if isinstance(answer, np.ndarray):
        return [answer]
    warp, cells = answer
    return [getattr(cells, f.name) for f in fields(cells) if f.name != "count"] + ([] if warp is None else [warp])


KINDS = {b.step: name for name, b in beginnings().items()}


@pytest.mark.parametrize("name", sorted(KINDS.values()))
def test_nobody_changes_what_is_kept(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """One pattern of every step that draws: drawn twice with other settings, every field is what it was when it was made."""
    kept: Memory[Any, Any] = Memory()
    made: dict[Any, Any] = {}

    class Watched(Memory[Any, Any]):
        def answer(self, key: Any, make: Any, size: Any) -> Any:
            found = kept.answer(key, make, size)
            made.setdefault(key, [print_of(a) for a in arrays(found)])
            assert made[key] == [print_of(a) for a in arrays(found)], key
            return found

    for module in (noise, cellular):
        monkeypatch.setattr(module, "FIELDS", Watched())
    weave = alone(name)
    row = weave.rows()[-1]
    evaluator().ask(weave, "height", 32)
    evaluator().ask(weave.with_settings(row.id, {"depth_mm": 7.0}), "height", 32)
    assert sorted(made.values()) == sorted([print_of(a) for a in arrays(answer)] for answer in kept.answers)


def test_a_dial_that_moves_no_cell_draws_none(monkeypatch: pytest.MonkeyPatch) -> None:
    drawn = []
    monkeypatch.setattr(cellular, "FIELDS", Memory())
    own = cellular._cellular
    monkeypatch.setattr(cellular, "_cellular", lambda *a: drawn.append(a[1]) or own(*a))
    weave = alone("flaking-paint")
    row = weave.rows()[-1]
    for bare in (0.3, 0.5, 0.7):
        evaluator().ask(weave.with_settings(row.id, {"bare": bare}), "height", 64)
    assert len(drawn) == 1
    evaluator().ask(weave.with_settings(row.id, {"seed": 8}), "height", 64)
    assert len(drawn) == 2
