"""The training itself: batches from files, Adam, checkpoints that it goes on from."""

from __future__ import annotations

import json
import pickle
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import jax
import jax.numpy as jnp
import numpy as np
import optax

from silent_loom.core.base.srgb import decode_table
from silent_loom.core.reading.inputs import shown
from tools.training.network import begun, count, loss

UNKNOWN = 0.25
"""Share of the photos under a sun that are shown as if nothing were known of the light."""


def batches(folder: Path, seed: int, size: int, side: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Batches without end: pieces of the sheets in files, mirrored, and turned where nothing is known of the light."""
    rng = np.random.default_rng(seed)
    linear = decode_table(256)
    held: list[tuple[np.ndarray, np.ndarray]] = []
    while True:
        files = sorted(folder.glob("[0-9]*.npz"))
        for k in rng.permutation(len(files)):
            with np.load(files[k]) as shard:
                photos, targets, suns = shard["photos"], shard["targets"], shard["suns"]
            for i in rng.permutation(len(photos)):
                held.append(_piece(rng, linear[photos[i]], targets[i].astype(np.float32), bool(suns[i]), side))
            while len(held) >= 4 * size + len(photos):
                picked = rng.permutation(len(held))[:size]
                yield tuple(np.stack([held[p][j] for p in picked]) for j in range(2))  # type: ignore[misc]
                held = [h for p, h in enumerate(held) if p not in set(picked)]


def _piece(rng: Any, linear: np.ndarray, targets: np.ndarray, sun: bool, side: int) -> tuple[np.ndarray, np.ndarray]:
    known = sun and rng.random() >= UNKNOWN
    x, t = shown(linear, 0.0 if known else None, False), np.moveaxis(targets, 0, 2).copy()
    steep = np.sqrt(1 + t[..., 0] ** 2 + t[..., 1] ** 2)
    t[..., :2] /= -steep[..., None]  # parts of the unit normal: bounded, where slopes are not
    top, left = (int(rng.integers(0, n - side + 1)) for n in x.shape[:2])
    x, t = x[top : top + side, left : left + side], t[top : top + side, left : left + side]
    if rng.random() < 0.5:
        x, t = x[::-1], t[::-1].copy()
        t[..., 1] *= -1
    if not known:
        for _ in range(int(rng.integers(0, 4))):
            x, t = np.rot90(x), np.rot90(t).copy()
            t[..., 0], t[..., 1] = t[..., 1].copy(), -t[..., 0]
    return np.ascontiguousarray(x), np.ascontiguousarray(t)


def train(
    data: Path,
    out: Path,
    *,
    steps: int,
    batch: int = 8,
    side: int = 160,
    rate: float = 1.5e-3,
    seed: int = 1,
    minutes: float = 115.0,
) -> None:
    """Train until ``steps`` are done or the time is over; go on from the checkpoint in ``out`` where there is one."""
    out.mkdir(parents=True, exist_ok=True)
    schedule = optax.warmup_cosine_decay_schedule(0.0, rate, 200, steps, rate * 0.01)
    rule = optax.chain(optax.clip_by_global_norm(1.0), optax.adamw(schedule, weight_decay=1e-4))
    weights = begun(seed)
    state = rule.init(weights)
    mean, done = weights, 0
    checkpoint = out / "checkpoint.pickle"
    if checkpoint.exists():
        done, weights, mean, state = pickle.loads(checkpoint.read_bytes())
    print(f"{count(weights):,} weights, from step {done}", flush=True)

    @jax.jit
    def step(weights: Any, mean: Any, state: Any, x: Any, t: Any, gone: Any) -> Any:
        (value, parts), slope = jax.value_and_grad(loss, has_aux=True)(weights, x, t)
        change, state = rule.update(slope, state, weights)
        weights = optax.apply_updates(weights, change)
        # Averaged (Polyak & Juditsky 1992), over a tenth of the steps at most: where it began is soon forgotten
        share = jnp.maximum(0.002, 10.0 / (gone + 10.0))
        mean = jax.tree.map(lambda a, b: a + share * (b - a), mean, weights)
        return weights, mean, state, value, parts

    began, sums, since = time.perf_counter(), {}, 0
    log = (out / "log.jsonl").open("a")

    def keep() -> None:
        part = checkpoint.with_suffix(".part")
        part.write_bytes(pickle.dumps(jax.tree.map(np.asarray, (done, weights, mean, state))))
        part.rename(checkpoint)

    for x, t in batches(data, seed + done, batch, side):
        if done >= steps or time.perf_counter() - began > 60 * minutes:
            break
        weights, mean, state, value, parts = step(weights, mean, state, jnp.asarray(x), jnp.asarray(t), float(done))
        done, since = done + 1, since + 1
        for name, v in (("loss", value), *parts.items()):
            sums[name] = sums.get(name, 0.0) + float(v)
        if done % 50 == 0:
            line = {
                "step": done,
                "seconds": round(time.perf_counter() - began),
                **{k: round(v / since, 4) for k, v in sums.items()},
            }
            print(json.dumps(line), flush=True)
            log.write(json.dumps(line) + "\n")
            log.flush()
            sums, since = {}, 0
        if done % 250 == 0:
            keep()
    keep()
