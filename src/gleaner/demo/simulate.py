"""Write a simulated world to a folder."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from gleaner.array_files import write_arrays
from gleaner.core.parallel import Progress
from gleaner.demo.events import make_events
from gleaner.demo.world import SCALE, Sizes, make_world

FILES = ("interactions.csv", "varieties.csv", "growers.csv", "truth.safetensors")


def simulate(sizes: Sizes, out: Path, progress: Progress | None = None) -> dict[str, int]:
    """Make a world and write interactions.csv, varieties.csv, growers.csv and truth.safetensors into `out`.

    The truth holds user_vectors and item_vectors (float32): the expected affinity of grower row u for variety row i,
    rows in the order of the tables, is user_vectors[u] . item_vectors[i]. Answers rows written by file.
    """
    out.mkdir(parents=True, exist_ok=True)
    world = make_world(sizes)
    events = make_events(world, sizes, progress)
    events.write_csv(out / FILES[0], datetime_format="%Y-%m-%dT%H:%M:%SZ")
    world.items.write_csv(out / FILES[1])
    world.users.write_csv(out / FILES[2])
    truth = {"user_vectors": world.user_vectors, "item_vectors": world.item_vectors / np.float32(SCALE)}
    write_arrays(truth, out / FILES[3])
    return {FILES[0]: events.height, FILES[1]: world.items.height, FILES[2]: world.users.height}
