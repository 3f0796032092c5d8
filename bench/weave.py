"""The weave at full strength: planning long ones, and looking closely without baking. Run: python -m bench.weave"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from bench.__main__ import photo_12mp
from silent_loom.core.files import read
from silent_loom.core.ways.sources import FileSources, digest_of
from silent_loom.core.ways.starting import Start, weave_for
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.windows import window
from silent_loom.core.weave.rows.model import GroupEntry, StepEntry

SIZE = 8192


def best(work: object, times: int = 5) -> float:
    """The shortest of several runs, in seconds."""
    found = []
    for _ in range(times):
        start = time.perf_counter()
        work()  # type: ignore[operator]
        found.append(time.perf_counter() - start)
    return min(found)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path, corners = photo_12mp(Path(folder))
        picture, digest = read(path), digest_of(path)
        sources = FileSources(lambda d: (path, path.name, picture.format))
        sources.remember(digest, picture)
        weave = weave_for(picture, path, digest, Start(corners=corners, extent_mm=1500))
        tones = tuple(StepEntry(step="tone", settings={"brightness": 0.001 * (i % 9 + 1)}) for i in range(990))
        nested = tuple(GroupEntry(name=f"Group {i}", rows=tones[i : i + 10]) for i in range(0, 990, 10))
        for words, rows in (("1000 rows", tones), ("1000 rows in 99 groups", nested)):
            long = weave.model_copy(update={"steps": (*weave.steps, *rows)})

            def planned(long: object = long) -> None:
                Evaluator(sources).plan(long)  # type: ignore[arg-type]

            print(f"plan of {words}: {1000 * best(planned):.0f} ms (at most 100)")
        evaluator = Evaluator(sources, Cache(2 << 30))
        box = (4000, 3000, 4700, 3600)
        start = time.perf_counter()
        evaluator.ask(weave, "height", SIZE)
        whole = time.perf_counter() - start
        first = best(lambda: window(evaluator, weave, "normal", SIZE, box), 1)
        start = time.perf_counter()
        evaluator.ask(weave, "normal", SIZE)
        all_of_it = time.perf_counter() - start
        print(f"height of {SIZE}² (every step up to it): {whole:.1f} s")
        print(
            f"normal of {SIZE}²: {all_of_it:.2f} s; a window of 700 × 600 of it: {1000 * first:.0f} ms, {all_of_it / first:.0f} times as quick"
        )


if __name__ == "__main__":
    main()
