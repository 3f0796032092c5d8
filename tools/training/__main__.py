"""``python -m tools.training``: make sheets, train on them, write the network, take its figures.

Training needs more than the application does: ``pip install -r requirements-training.lock``.
"""

from __future__ import annotations

import argparse
from pathlib import Path


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m tools.training", description=__doc__)
    parser.add_argument("--folder", type=Path, default=Path("training"), help="Where sheets and checkpoints lie.")
    jobs = parser.add_subparsers(dest="job", required=True)
    make = jobs.add_parser("make", help="Draw surfaces, photograph them, write them down. Goes on where it was stopped.")
    make.add_argument("--shards", type=int, default=128, help="Files of 32 sheets.")
    make.add_argument("--side", type=int, default=256, help="Texels along a sheet.")
    make.add_argument("--held-out", action="store_true", help="Of the families that training never sees.")
    train = jobs.add_parser("train", help="Train; goes on from its checkpoint.")
    train.add_argument("--steps", type=int, default=6000)
    train.add_argument("--batch", type=int, default=12)
    train.add_argument("--side", type=int, default=128, help="Texels along the pieces that are shown.")
    train.add_argument("--minutes", type=float, default=115.0, help="Stop after so long, with a checkpoint.")
    train.add_argument("--seed", type=int, default=1)
    jobs.add_parser("write", help="Write the averaged weights of the checkpoint as relief.onnx.")
    figures = jobs.add_parser("figures", help="Figures of relief.onnx on held-out sheets.")
    figures.add_argument("--sheets", type=int, default=400)
    said = parser.parse_args()
    if said.job == "make":
        from tools.training.samples import make as made

        made(said.folder / ("held_out" if said.held_out else "sheets"), said.shards, said.side, held_out=said.held_out)
    elif said.job == "train":
        from tools.training.learning import train as trained

        trained(
            said.folder / "sheets", said.folder, steps=said.steps, batch=said.batch, side=said.side,
            seed=said.seed, minutes=said.minutes,
        )  # fmt: skip
    elif said.job == "write":
        from silent_loom.core.reading.windows import SIDE
        from tools.training.learning import averaged
        from tools.training.writing import write

        write(averaged(said.folder), said.folder / "relief.onnx", SIDE)
    elif said.job == "figures":
        from silent_loom.core.reading.network import OnnxNetwork
        from tools.training.figures import figures as taken
        from tools.training.figures import table

        print(table(taken(OnnxNetwork(said.folder / "relief.onnx"), said.folder / "held_out", said.sheets)))


if __name__ == "__main__":
    main()
