"""The training itself: batches from files, Adam, checkpoints that it goes on from."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import tensorflow as tf

from silent_loom.core.base.srgb import decode_table
from silent_loom.core.reading.inputs import shown
from tools.training.network import begun, count, loss

UNKNOWN = 0.25
"""Share of the photos under a sun that are shown as if nothing were known of the light."""
PIECES = 2
"""Pieces that are taken of a sheet each time that it comes up."""


def batches(folder: Path, seed: int, size: int, side: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Batches without end: pieces of the sheets in files, mirrored, and turned where nothing is known of the light."""
    rng = np.random.default_rng(seed)
    linear = decode_table(256)
    held: list[tuple[np.ndarray, np.ndarray]] = []
    while True:
        files = sorted(folder.glob("[0-9]*.npz"))
        if not files:
            raise SystemExit(f"No sheets in {folder}: make some first.")
        for k in rng.permutation(len(files)):
            with np.load(files[k]) as shard:
                photos, targets, suns = shard["photos"], shard["targets"], shard["suns"]
            for i in rng.permutation(len(photos)):
                held += _pieces(rng, linear[photos[i]], targets[i].astype(np.float32), bool(suns[i]), side)
            while len(held) >= 4 * size + len(photos):
                picked = rng.permutation(len(held))[:size]
                yield tuple(np.stack([held[p][j] for p in picked]) for j in range(2))  # type: ignore[misc]
                gone = set(picked)
                held = [h for p, h in enumerate(held) if p not in gone]


def _pieces(rng: Any, linear: np.ndarray, targets: np.ndarray, sun: bool, side: int) -> list[tuple[np.ndarray, np.ndarray]]:
    known = sun and rng.random() >= UNKNOWN
    x, t = shown(linear, 0.0 if known else None, False), np.moveaxis(targets, 0, 2).copy()
    steep = np.sqrt(1 + t[..., 0] ** 2 + t[..., 1] ** 2)
    t[..., :2] /= -steep[..., None]  # parts of the unit normal: bounded, where slopes are not
    return [_piece(rng, x, t, known, side) for _ in range(PIECES)]


def _piece(rng: Any, x: np.ndarray, t: np.ndarray, known: bool, side: int) -> tuple[np.ndarray, np.ndarray]:
    top, left = (int(rng.integers(0, n - side + 1)) for n in x.shape[:2])
    x, t = x[top : top + side, left : left + side], t[top : top + side, left : left + side]
    if rng.random() < 0.5:
        x, t = x[::-1], t[::-1]
        t = t * np.array([1, -1, *[1] * (t.shape[-1] - 2)], np.float32)
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
    batch: int = 12,
    side: int = 128,
    rate: float = 8e-4,
    seed: int = 1,
    minutes: float = 115.0,
) -> None:
    """Train until ``steps`` are done or the time is over; go on from the checkpoint in ``out`` where there is one."""
    out.mkdir(parents=True, exist_ok=True)
    start = begun(seed)
    weights = {k: tf.Variable(v, name=k.replace(".", "_")) for k, v in start.items()}
    mean = {k: tf.Variable(v) for k, v in start.items()}
    rule = tf.keras.optimizers.AdamW(_rate(rate, steps), weight_decay=1e-4, beta_2=0.95, global_clipnorm=0.5)
    rule.build(list(weights.values()))
    done = tf.Variable(0, dtype=tf.int64)
    held = tf.train.Checkpoint(weights=weights, mean=mean, rule=rule, done=done)
    keeper = tf.train.CheckpointManager(held, str(out / "checkpoints"), max_to_keep=2)
    held.restore(keeper.latest_checkpoint)
    print(f"{count(start):,} weights, from step {int(done)}", flush=True)

    @tf.function(reduce_retracing=True)  # type: ignore[untyped-decorator]
    def step(x: Any, t: Any) -> Any:
        with tf.GradientTape() as tape:
            value, parts = loss(weights, x, t)
        rule.apply_gradients(zip(tape.gradient(value, list(weights.values())), weights.values(), strict=True))
        # Averaged (Polyak & Juditsky 1992), over a tenth of the steps at most: where it began is soon forgotten
        share = tf.maximum(0.002, 10.0 / (tf.cast(done, tf.float32) + 10.0))
        for name, average in mean.items():
            average.assign_add(share * (weights[name] - average))
        done.assign_add(1)
        return {"loss": value, **parts}

    began, sums, since = time.perf_counter(), dict[str, float](), 0
    with (out / "log.jsonl").open("a") as log:
        for x, t in batches(data, seed + int(done), batch, side):
            if int(done) >= steps or time.perf_counter() - began > 60 * minutes:
                break
            for name, v in step(x, t).items():
                sums[name] = sums.get(name, 0.0) + float(v)
            since += 1
            if int(done) % 50 == 0:
                line = {"step": int(done), "seconds": round(time.perf_counter() - began)}
                line |= {k: round(v / since, 4) for k, v in sums.items()}
                print(json.dumps(line), flush=True)
                log.write(json.dumps(line) + "\n")
                log.flush()
                sums, since = {}, 0
            if int(done) % 250 == 0:
                keeper.save()
    keeper.save()
    averaged(out)


def _rate(rate: float, steps: int) -> Any:
    """Up within 100 steps, then down along a cosine (Loshchilov & Hutter 2017)."""
    return tf.keras.optimizers.schedules.CosineDecay(0.0, max(1, steps - 100), alpha=0.01, warmup_target=rate, warmup_steps=100)


def averaged(out: Path) -> dict[str, np.ndarray]:
    """Averaged weights of the last checkpoint; written down beside it, too."""
    mean = {k: tf.Variable(v) for k, v in begun(0).items()}
    tf.train.Checkpoint(mean=mean).restore(tf.train.latest_checkpoint(str(out / "checkpoints"))).expect_partial()
    weights = {k: v.numpy() for k, v in mean.items()}
    np.savez(out / "weights.npz", **weights)
    return weights
