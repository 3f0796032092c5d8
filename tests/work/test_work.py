"""Jobs and answers: order, progress, cancel, and one owner of the cores."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from silent_loom.core.base.askers import Asker, asking
from silent_loom.core.base.errors import Cancelled, LoomError, SettingError
from silent_loom.core.base.parallel import Lane, Rank, Task, both, over_rows
from silent_loom.core.files.png import png_bytes
from silent_loom.core.ways.bake import BakeOrder
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.store.jobs import JobFacts, StoredJobs
from silent_loom.store.states import State
from silent_loom.store.store import Store
from silent_loom.work.desk import Draft
from silent_loom.work.jobs import AGAIN, Job, Jobs
from silent_loom.work.workbench import Workbench
from tests.conftest import codes_of
from tests.conftest import spectrum as noise_of


def until(condition: Callable[[], bool], seconds: float = 10) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.005)


@pytest.fixture
def jobs() -> Iterator[Jobs]:
    made = Jobs(Lane())
    yield made
    made.close()


def ended(job: Job) -> bool:
    return job.state not in ("waiting", "running")


def test_jobs_run_one_after_another_and_report(jobs: Jobs) -> None:
    order: list[str] = []

    def work(job: Job) -> dict[str, Any]:
        name = job.settings["name"]
        order.append(f"{name} begins")
        job.task.report(0.5, f"half of {name}")
        order.append(f"{name} ends")
        return {"made": name}

    jobs.can("make", work)
    made = [jobs.add("make", n, "m", {"name": n}) for n in ("one", "two", "three")]
    until(lambda: all(ended(j) for j in made))
    assert order == [f"{n} {w}" for n in ("one", "two", "three") for w in ("begins", "ends")]
    assert [j.result for j in made] == [{"made": n} for n in ("one", "two", "three")]
    assert any("half of two" in line for line in made[1].log)
    shown = made[0].as_dict()
    assert (shown["state"], shown["fraction"], shown["error"]) == ("done", 1.0, "")
    with pytest.raises(LoomError, match="no jobs of the kind 'paint'"):
        jobs.add("paint", "p")


def test_a_failing_job_says_why_and_the_next_one_runs(jobs: Jobs) -> None:
    def fails(_job: Job) -> dict[str, Any]:
        raise LoomError("the disk is full", "set.zip", "Make room.")

    def breaks(_job: Job) -> dict[str, Any]:
        raise ZeroDivisionError("by zero")

    for kind, work in (("a", fails), ("b", breaks), ("c", lambda _: {"ok": True})):
        jobs.can(kind, work)
    first, second, third = (jobs.add(kind, kind, "m") for kind in "abc")
    until(lambda: ended(third))
    assert (first.state, first.error) == ("failed", "set.zip: the disk is full. Make room.")
    assert (second.state, second.error) == ("failed", "ZeroDivisionError: by zero")
    assert third.state == "done"


def test_a_running_job_stops_at_its_next_checkpoint_and_a_waiting_one_never_starts(jobs: Jobs) -> None:
    running, ran = threading.Event(), []

    def long(job: Job) -> dict[str, Any]:
        running.set()
        while True:
            job.task.checkpoint()
            time.sleep(0.001)

    jobs.can("long", long)
    jobs.can("next", lambda _: ran.append(1) or {})
    jobs.can("last", lambda _: {})
    first = jobs.add("long", "long", "m")
    second = jobs.add("next", "next", "m")
    assert running.wait(5)
    assert jobs.cancel(second.id).state == "stopped"
    jobs.cancel(first.id)
    until(lambda: ended(first))
    last = jobs.add("last", "last", "m")
    until(lambda: ended(last))
    assert (first.state, second.state, ran) == ("stopped", "stopped", [])
    with pytest.raises(LoomError, match="no such job"):
        jobs.get("nothing")


def test_jobs_that_were_not_done_are_taken_up_again(tmp_path: Path) -> None:
    store = Store(tmp_path)
    running = threading.Event()

    def long(job: Job) -> dict[str, Any]:
        running.set()
        while True:
            job.task.checkpoint()
            time.sleep(0.001)

    first = Jobs(Lane(), StoredJobs(store))
    first.can("make", long)
    made, waits = first.add("make", "one", "m", {"name": "one"}), first.add("make", "two", "m", {"name": "two"})
    stopped = first.add("make", "three", "m", {"name": "three"})
    first.cancel(stopped.id)
    assert running.wait(5)
    first.close()
    killed = JobFacts("killed", "make", "four", "m", {"name": "four"}, "running", log=("10:00:00 half",))
    worn = JobFacts("worn", "make", "five", "m", {"name": "five"}, "running", log=tuple(f"10:0{k}:00 {AGAIN}" for k in range(3)))
    strange = JobFacts("strange", "gild", "six", "m", {}, "waiting")
    for facts in (killed, worn, strange):
        StoredJobs(store).put(facts)
    order: list[str] = []
    again = Jobs(Lane(), StoredJobs(store))
    again.can("make", lambda job: order.append(job.settings["name"]) or {"made": job.settings["name"]})
    assert {j.id for j in again.resume()} == {made.id, waits.id, "killed"}
    until(lambda: all(ended(j) for j in again.all()))
    assert order == ["one", "two", "four"], "in the order in which they were asked for"
    states = {j.id: j.state for j in again.all()}
    assert states == {
        made.id: "done",
        waits.id: "done",
        stopped.id: "stopped",
        "killed": "done",
        "worn": "failed",
        "strange": "failed",
    }
    assert AGAIN in "".join(again.get("killed").log)
    assert "ended 4 times" in again.get("worn").error
    again.close()
    kept = {f.id: f for f in StoredJobs(store).all()}
    assert kept[made.id].result == {"made": "one"}
    assert kept[stopped.id].state == "stopped"
    store.close()


def test_parts_of_a_task_share_its_cancel_and_its_progress() -> None:
    said: list[tuple[float, str]] = []
    task = Task(lambda f, w: said.append((f, w)))
    task.part(0.2, 0.6).report(0.5, "half way")
    task.part(0, 0).report(0.9, "quiet")
    assert said == [(0.4, "half way")]
    child = task.part(0.5, 1.0)
    task.cancel()
    assert child.cancelled
    with pytest.raises(Cancelled):
        over_rows(100, lambda a, b: None, child)


def test_a_part_steps_aside_for_its_whole() -> None:
    lane, order = Lane(), []
    job = Task(lane=lane, rank=Rank.JOB)

    def urgent() -> None:
        with lane.hold(Task(lane=lane)):
            order.append("urgent")

    with lane.hold(job):
        other = threading.Thread(target=urgent)
        other.start()
        until(lambda: lane._waiting[Rank.HAND] > 0)
        job.part(0, 1).checkpoint()
        order.append("job")
    other.join(5)
    assert order == ["urgent", "job"]


def test_the_lane_has_one_owner_whoever_asks() -> None:
    lane, inside, most = Lane(), [0], [0]
    lock = threading.Lock()

    def ask(rank: Rank) -> None:
        for _ in range(25):
            with lane.hold(Task(lane=lane, rank=rank)):
                with lock:
                    inside[0] += 1
                    most[0] = max(most[0], inside[0])
                with lock:
                    inside[0] -= 1

    threads = [threading.Thread(target=ask, args=(list(Rank)[i % 4],)) for i in range(6)]
    for t in threads:
        t.start()
    for t in threads:
        t.join(20)
    assert most[0] == 1


def test_a_cancelled_task_never_gets_the_lane() -> None:
    lane = Lane()
    waiting = Task(lane=lane, rank=Rank.JOB)
    got: list[str] = []

    def ask() -> None:
        try:
            with lane.hold(waiting):
                got.append("owned")
        except Cancelled:
            got.append("cancelled")

    with lane.hold(Task(lane=lane)):
        thread = threading.Thread(target=ask)
        thread.start()
        waiting.cancel()
        thread.join(5)
    assert got == ["cancelled"]


def test_higher_ranks_go_first_whoever_came_first() -> None:
    lane, order = Lane(), []

    def ask(rank: Rank) -> None:
        with lane.hold(Task(lane=lane, rank=rank)):
            order.append(rank)

    asking = [threading.Thread(target=ask, args=(rank,)) for rank in (Rank.JOB, Rank.TABLE, Rank.ASIDE, Rank.HAND)]
    with lane.hold(Task(lane=lane)):
        for thread in asking:
            thread.start()
        until(lambda: sum(lane._waiting.values()) == 4)
    for thread in asking:
        thread.join(5)
    assert order == [Rank.HAND, Rank.TABLE, Rank.ASIDE, Rank.JOB]


def test_both_threads_of_a_computation_step_aside() -> None:
    lane, order = Lane(), []
    figures = Task(lane=lane, rank=Rank.ASIDE)
    ahead, go = threading.Event(), threading.Event()

    def hand() -> None:
        with lane.hold(Task(lane=lane)):
            ahead.set()
            assert go.wait(5)
            order.append("hand")

    def part(name: str) -> None:
        until(lambda: lane._waiting[Rank.HAND] > 0 or ahead.is_set())
        figures.checkpoint()
        order.append(name)

    with lane.hold(figures):
        parts = [threading.Thread(target=part, args=(n,)) for n in ("one", "two")]
        other = threading.Thread(target=hand)
        for thread in (*parts, other):
            thread.start()
        assert ahead.wait(5)
        parts[0].join(0.2)
        assert order == [], "nothing of the figures goes on while a hand is served"
        go.set()
        for thread in (*parts, other):
            thread.join(5)
    assert order[0] == "hand"
    assert sorted(order[1:]) == ["one", "two"]


def test_cancelled_while_aside_leaves_the_lane_to_its_owner() -> None:
    lane = Lane()
    figures = Task(lane=lane, rank=Rank.ASIDE)
    ahead, go, gone = threading.Event(), threading.Event(), threading.Event()

    def hand() -> None:
        with lane.hold(Task(lane=lane)):
            ahead.set()
            go.wait(5)

    def count() -> None:
        try:
            with lane.hold(figures):
                other.start()
                until(lambda: lane._waiting[Rank.HAND] > 0)
                figures.checkpoint()
        except Cancelled:
            gone.set()

    other, counting = threading.Thread(target=hand), threading.Thread(target=count)
    counting.start()
    assert ahead.wait(5)
    figures.cancel()
    assert gone.wait(5)
    assert lane._owner is not None, "the hand still owns it"
    go.set()
    for thread in (other, counting):
        thread.join(5)
    assert lane._owner is None


def test_who_stepped_aside_goes_on_before_others_of_its_rank_begin() -> None:
    lane, order = Lane(), []
    figures = Task(lane=lane, rank=Rank.ASIDE)
    go = threading.Event()

    def hand() -> None:
        with lane.hold(Task(lane=lane)):
            assert go.wait(5)

    def more() -> None:
        with lane.hold(Task(lane=lane, rank=Rank.ASIDE)):
            order.append("begun later")

    def count() -> None:
        with lane.hold(figures):
            others[0].start()
            until(lambda: lane._waiting[Rank.HAND] > 0)
            figures.checkpoint()
            order.append("begun first")

    others = [threading.Thread(target=f) for f in (hand, count, more)]
    others[1].start()
    until(lambda: figures in lane._aside)
    others[2].start()
    until(lambda: lane._waiting[Rank.ASIDE] == 2)
    go.set()
    for thread in others:
        thread.join(5)
    assert order == ["begun first", "begun later"]


def test_calls_within_calls_never_wait_for_a_thread_that_waits() -> None:
    """Ever deeper pairs would fill any pool with calls that wait for each other."""

    def deep(n: int) -> int:
        return 1 if n == 0 else sum(both(partial(deep, n - 1), partial(deep, n - 1)))

    def in_bands(y0: int, y1: int) -> None:
        over_rows(64, lambda a, b: time.sleep(0.01))

    done: list[int] = []
    threads = [threading.Thread(target=lambda: done.append(deep(6)), daemon=True) for _ in range(4)]
    threads += [threading.Thread(target=lambda: over_rows(256, in_bands), daemon=True) for _ in range(2)]
    for t in threads:
        t.start()
    for t in threads:
        t.join(30)
    assert not any(t.is_alive() for t in threads)
    assert done == [64] * 4


def test_a_closed_page_takes_its_questions_back(bench: Workbench, state: State) -> None:
    asker = Asker()
    begun = threading.Event()

    def work(_weave: Any, task: Task) -> None:
        begun.set()
        until(lambda: task.cancelled)
        task.checkpoint()

    def ask() -> None:
        with asking(asker), pytest.raises(Cancelled):
            bench.desk.answer(state.id, work)

    thread = threading.Thread(target=ask)
    thread.start()
    assert begun.wait(5)
    asker.leave()
    thread.join(5)
    assert not thread.is_alive()
    with asking(asker), pytest.raises(Cancelled):
        bench.desk.answer(state.id, work)


def test_both_runs_side_by_side_and_keeps_the_order() -> None:
    gate = threading.Barrier(2, timeout=5)  # passes only when both calls run at once
    assert both(lambda: (gate.wait(), "a")[1], lambda: (gate.wait(), "b")[1]) == ["a", "b"]


# --- answers --------------------------------------------------------------------------------------------------


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Workbench]:
    made = Workbench(Store(tmp_path))
    yield made
    made.close()


@pytest.fixture
def state(bench: Workbench) -> State:
    digest, _ = bench.store.add_source(io.BytesIO(png_bytes(codes_of(noise_of(96, 1.2, 1)), colour=True)), "deck.png")
    return bench.store.create("Deck", starting_weave(digest, bench.store.source_ref(digest)))


def row(state: State, step: str) -> str:
    entry = state.weave.first(step)
    assert entry is not None
    return entry.id


def test_a_draft_answers_as_the_change_will(bench: Workbench, state: State) -> None:
    draft = Draft(row(state, "height"), {"depth_mm": 3.0, "invert": True})
    tried, _ = bench.views.map_rgba(state.id, "normal", 64, draft=draft)
    assert bench.store.get(state.id).head == state.head
    changed = bench.store.change(state.id, state.head, draft.on(state.weave), "Depth")
    assert bench.evaluator.plan(changed.weave).spec("height").depth == 3.0
    kept, facts = bench.views.map_rgba(state.id, "normal", 64)
    assert kept == tried
    assert max(facts.width, facts.height) == 64
    before, _ = bench.views.map_rgba(state.id, "normal", 64, entry=state.head)
    assert before != kept


def test_decisions_of_a_draft_are_not_written(bench: Workbench, state: State) -> None:
    def kept() -> int:
        from sqlalchemy import func, select

        from silent_loom.store.tables import KeptDecision

        with bench.store._sessions() as session:
            return int(session.scalar(select(func.count()).select_from(KeptDecision)) or 0)

    bench.views.map_rgba(state.id, "height", 64)
    stored = kept()
    assert stored >= 3
    bench.views.map_rgba(state.id, "height", 64, draft=Draft(row(state, "light"), {"amount": 0.5}))
    assert kept() == stored


def test_a_wrong_draft_is_refused(bench: Workbench, state: State) -> None:
    with pytest.raises(SettingError, match=r"height\.depth_mm"):
        bench.views.map_rgba(state.id, "base", 64, draft=Draft(row(state, "height"), {"depth_mm": 0}))


def test_a_newer_question_of_a_view_gives_the_older_one_up(bench: Workbench, state: State) -> None:
    seen: list[str] = []
    began = threading.Event()

    def slow(_weave: object, task: Task) -> None:
        began.set()
        while True:
            task.checkpoint()
            time.sleep(0.001)

    def ask_slowly() -> None:
        try:
            bench.desk.answer(state.id, slow, view="v", sequence=1)
        except Cancelled:
            seen.append("given up")

    thread = threading.Thread(target=ask_slowly)
    thread.start()
    assert began.wait(5)
    assert bench.desk.answer(state.id, lambda w, t: "new", view="v", sequence=2) == "new"
    thread.join(5)
    assert seen == ["given up"]
    with pytest.raises(Cancelled):
        bench.desk.answer(state.id, lambda w, t: None, view="v", sequence=1)


def test_cards_are_kept_and_old_ones_go(bench: Workbench, state: State) -> None:
    first = bench.cards.card(state.id, state.head)
    assert bench.cards.card(state.id, state.head) == first
    changed = bench.store.change(state.id, state.head, state.weave.with_settings(row(state, "tone"), {"brightness": 1.0}), "Tone")
    second = bench.cards.card(state.id, changed.head)
    assert second != first
    name = f"{state.id}-{bench.cards.card_key(state.id, changed.head)}.png"
    assert [p.name for p in (bench.store.folder / "pictures").iterdir()] == [name]


def test_a_material_whose_photo_is_switched_off_is_told_and_no_fault(bench: Workbench, state: State) -> None:
    photo = state.weave.first("photo")
    assert photo is not None
    off = state.weave.with_entry(photo.model_copy(update={"on": False}))
    bench.store.change(state.id, state.head, off, "Photo switched off")
    found = bench.figures.figures(state.id)
    constant = row(state, "metallic")  # reads nothing
    assert all(note.get("error") for ident, note in found["rows"].items() if ident != constant)
    assert bench.views.form(state.id, 64), "what is left is shown on a plain sheet"
    for ask in (lambda: bench.mending.spots(state.id), lambda: bench.mending.findings(state.id)):
        with pytest.raises(LoomError):
            ask()


def test_a_card_is_drawn_anew_when_a_step_works_otherwise(
    bench: Workbench, state: State, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = bench.cards.card_key(state.id, state.head), bench.views.map_key(state.id, "base", 64)
    monkeypatch.setattr(type(registry.step("tone")), "version", 99)
    bench.evaluator._plans = ()
    assert bench.cards.card_key(state.id, state.head) == before[0], "tone is idle here: nothing of it is seen"
    monkeypatch.setattr(type(registry.step("seamless")), "version", 99)
    bench.evaluator._plans = ()
    assert bench.cards.card_key(state.id, state.head) != before[0]
    assert bench.views.map_key(state.id, "base", 64) != before[1]


def test_a_delivery_fails_before_it_starts_when_a_row_cannot_run(bench: Workbench, state: State) -> None:
    normal = state.weave.entry(row(state, "normal"))
    broken = state.weave.model_copy(update={"steps": (normal, *[e for e in state.weave.steps if e.id != normal.id])})
    bench.store.change(state.id, state.head, broken, "moved")
    with pytest.raises(LoomError, match="needs height"):
        bench.delivering.deliver(state.id, "plain", BakeOrder(64))
    assert bench.jobs.all() == []


def test_a_delivery_is_of_the_state_it_was_asked_for(bench: Workbench, state: State) -> None:
    job = bench.delivering.deliver(state.id, "plain", BakeOrder(48))
    bench.store.change(state.id, state.head, state.weave.with_settings(row(state, "height"), {"depth_mm": 77.0}), "Depth")
    until(lambda: ended(job), 60)
    assert job.state == "done", job.error
    assert job.result["manifest"]["depth_mm"] == 10.0
    assert job.result["manifest"]["size"][0] == 48
    assert not [p for p in (bench.store.folder / "deliveries").iterdir() if p.name.startswith(".part")]


def test_histograms_are_of_what_comes_into_a_row(bench: Workbench, state: State) -> None:
    bright = bench.store.change(state.id, state.head, state.weave.with_settings(row(state, "tone"), {"brightness": 2.0}), "Tone")
    above = np.array(bench.views.counts(state.id, "base", 64, above=row(bright, "tone"))).sum(0)
    below = np.array(bench.views.counts(state.id, "base", 64, above=row(bright, "height"))).sum(0)
    levels = np.arange(above.size)
    assert (below * levels).sum() / below.sum() > 1.2 * (above * levels).sum() / above.sum()
    assert bench.views.counts(state.id, "base", 64, above=row(bright, "photo")) == []


def test_a_set_says_what_it_lacks_and_what_that_will_be_made_from() -> None:
    from silent_loom.work.opening import made_from

    told = {m["map"]: m["from"] for m in made_from(["base", "normal"])}
    assert told == {"Height": "normal", "Roughness": "base colour", "Metallic": "one value", "Occlusion": "height"}
    older = {m["map"]: m["from"] for m in made_from(["base", "specular_colour"])}
    assert (older["Specular weight"], older["Roughness"]) == ("specular colour", "specular weight")
    assert made_from(["base", "height", "normal", "roughness", "metallic", "occlusion"]) == []


def test_a_thread_that_writes_never_takes_the_lane_for_good() -> None:
    """A file's writer steps aside while its computation ends: when the lane is free again, nobody would give it back."""
    lane = Lane()
    job, hand = Task(lane=lane, rank=Rank.JOB), Task(lane=lane, rank=Rank.HAND)
    in_hand, hand_may_go, writer_done, again = (threading.Event() for _ in range(4))

    def urgent() -> None:
        with lane.hold(hand):
            in_hand.set()
            hand_may_go.wait(10)

    def writer() -> None:
        while not in_hand.is_set():
            job.part(0, 0).checkpoint()
            time.sleep(0.005)
        writer_done.set()

    def next_map() -> None:
        with lane.hold(job):
            again.set()

    threads = [threading.Thread(target=t, daemon=True) for t in (urgent, writer)]
    with lane.hold(job):
        for t in threads:
            t.start()
        assert in_hand.wait(10), "the writer let the hand go first"
    after = threading.Thread(target=next_map, daemon=True)
    after.start()
    hand_may_go.set()
    assert writer_done.wait(10)
    assert again.wait(10), "the lane was kept by a computation that no longer needed it"
