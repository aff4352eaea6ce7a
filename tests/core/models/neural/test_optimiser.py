"""Gradient steps are those of the library's own optimisers, dense and lazy."""

from __future__ import annotations

import numpy as np
import pytest
import torch

from gleaner.core.models.neural.machinery.optimiser import Optimiser
from tolerances import SINGLE


def random_arrays(seed: int) -> dict[str, np.ndarray]:
    random = np.random.default_rng(seed)
    return {name: random.standard_normal((7, 3)).astype(np.float32) for name in ("dense", "table")}


def loss_of(tensors, rows, target):
    picked = torch.nn.functional.embedding(rows, tensors["table"], sparse=True)
    return ((picked @ tensors["dense"].T).sin() - target).pow(2).mean()


@pytest.fixture
def steps():
    random = np.random.default_rng(3)
    return [
        (torch.from_numpy(random.integers(0, 7, 4)), torch.from_numpy(random.standard_normal(7).astype(np.float32)))
        for _ in range(12)
    ]


def test_steps_are_adams_and_those_on_tables_its_lazy_form(steps):
    ours, theirs = (
        random_arrays(1),
        {name: torch.from_numpy(a).requires_grad_() for name, a in random_arrays(1).items()},
    )
    optimiser = Optimiser(torch, ours, 0.05)
    adam = torch.optim.Adam([theirs["dense"]], lr=0.05)
    lazy = torch.optim.SparseAdam([theirs["table"]], lr=0.05)
    for rows, target in steps:
        optimiser.step(loss_of(optimiser.tensors, rows, target))
        for each in (adam, lazy):
            each.zero_grad()
        loss_of(theirs, rows, target).backward()
        adam.step()
        lazy.step()
    for name, array in ours.items():
        np.testing.assert_allclose(array, theirs[name].detach().numpy(), rtol=SINGLE, atol=SINGLE)


def test_what_is_kept_is_gone_on_from_to_the_last_digit(steps):
    whole, first, second = random_arrays(2), random_arrays(2), random_arrays(5)
    one, two = Optimiser(torch, whole, 0.05), Optimiser(torch, first, 0.05)
    for rows, target in steps[:6]:
        one.step(loss_of(one.tensors, rows, target))
        two.step(loss_of(two.tensors, rows, target))
    kept = {name: array.copy() for name, array in two.state().items()}
    three = Optimiser(torch, second, 0.05)
    three.load_state(kept)
    for rows, target in steps[6:]:
        one.step(loss_of(one.tensors, rows, target))
        three.step(loss_of(three.tensors, rows, target))
    for name in whole:
        np.testing.assert_array_equal(second[name], whole[name])
