"""Milliseconds from a question to the last byte of its answer, while one setting moves, before the demo's slate.

Start `make demo`, then `python -m bench.nudge http://127.0.0.1:8321`. What comes before the moved row is cached; every question
has a value that was not asked for before. A copy of the slate is made, with a row that tells its elements apart.
"""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np

from bench.asking import asked, copied, sent

NUDGES = (
    ("tone", "brightness", "base", 512, "60 / 120"),
    ("height", "contrast", "height", 512, "120"),
    ("height", "guard", "height", 512, "120"),
    ("normal", "strength", "normal", 512, "60 / 120"),
    ("roughness", "low", "roughness", 512, "60 / 120"),
    ("occlusion", "strength", "occlusion", 512, "400"),
    ("elements", "join", "id", 512, "400"),
    ("elements", "size_mm", "border", 512, "400"),
    ("light", "amount", "form", 256, "250"),
    ("light", "amount", "form", 512, "1000"),
)


def answer(address: str, question: dict[str, Any]) -> float:
    """Seconds to the last byte."""
    start = time.perf_counter()
    if not sent(address, question):
        raise RuntimeError("a question was given up")
    return time.perf_counter() - start


def main(address: str) -> None:
    copy = copied(address, "slate")
    at = f"{address}/api/materials/{copy['id']}"
    asked(f"{at}/change", {"base": copy["head"], "kind": "add", "step": "elements", "settings": {}, "to": 99})
    rows = {r["step"]: r for r in asked(at)["weave"]["rows"]}
    fresh = 0.002 * np.random.default_rng().random()  # a second run asks for other values
    print("row        setting     asked      aim ms     median   95th percentile")
    for turn, (step, field, what, size, aim) in enumerate(NUDGES):
        end = "form" if what == "form" else "map"
        took = []
        for i in range(24):
            value = 0.3 + 0.011 * i + 0.003 * turn + fresh
            settings = {**rows[step]["settings"], field: 100 + 100 * value if field == "size_mm" else value}
            draft = {"step_id": rows[step]["id"], "settings": settings, "view": f"nudge-{fresh}", "sequence": 1000 * turn + i + 1}
            took.append(answer(f"{at}/{end}", {**draft, "size": size, **({} if what == "form" else {"thread": what})}))
        ms = 1000 * np.array(took[2:])
        print(f"{step:10s} {field:11s} {what:9s} {size:4d} {aim:>8s} {np.median(ms):8.0f} {np.percentile(ms, 95):8.0f}")


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8321")
