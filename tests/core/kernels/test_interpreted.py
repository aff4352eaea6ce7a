"""Every kernel that Python calls does interpreted what it does compiled: nothing rests on how the compiler reads it."""

from __future__ import annotations

import copy
import importlib
import pkgutil
import sys
from types import FunctionType, ModuleType
from typing import Any

import numpy as np
import pytest
from numba.core.registry import CPUDispatcher

from gleaner.core import kernels, parallel, warm
from gleaner.core.models.base.registry import FAMILIES

CLOSE = {"rtol": 2e-4, "atol": 1e-5}
"""Sums of 32 bits in the order of the compiler, and in the order of the loop."""


def dispatchers() -> dict[str, CPUDispatcher]:
    """Every compiled function of the kernels, by module and name."""
    result = {}
    for module in pkgutil.iter_modules(kernels.__path__):
        loaded = importlib.import_module(f"{kernels.__name__}.{module.name}")
        for name, value in vars(loaded).items():
            if isinstance(value, CPUDispatcher) and value.__module__ == loaded.__name__:
                result[f"{module.name}.{name}"] = value
    return result


def interpreted(kernel: CPUDispatcher, done: dict[int, FunctionType]) -> FunctionType:
    """A kernel, and whatever it calls, as plain Python. done: those that were made already."""
    if id(kernel) not in done:
        plain = kernel.py_func
        names = dict(plain.__globals__)
        done[id(kernel)] = FunctionType(plain.__code__, names, plain.__name__, plain.__defaults__, plain.__closure__)
        for name in plain.__code__.co_names:
            if isinstance(names.get(name), CPUDispatcher):
                names[name] = interpreted(names[name], done)
    return done[id(kernel)]


def alike(one: Any, other: Any) -> bool:
    """Whether two results are the same, figures to what their width holds."""
    if isinstance(one, tuple | list):
        return len(one) == len(other) and all(alike(*pair) for pair in zip(one, other, strict=True))
    if isinstance(one, np.ndarray):
        if one.dtype.kind != "f":
            return bool(np.array_equal(one, other))
        return bool(np.allclose(one, other, equal_nan=True, **CLOSE))
    if isinstance(one, float | np.floating):
        return bool(np.isclose(one, other, equal_nan=True, **CLOSE))
    return bool(one == other)


INNER = (
    "solve_lower", "sum_columns", "log_likelihood", "draw", "has", "unseen", "add_of_four", "add_of_one",
)  # fmt: skip
"""Called by other kernels only."""

MACHINE_CODE = ("bounded.best_items", "bounded.best_items_of_several")
"""They call instructions of the processor, which have no Python: tests/core/kernels/test_quads.py has their twin."""


class Both:
    """In the place of a kernel: the first call is run both ways, on copies of what it was given."""

    def __init__(self, name: str, kernel: CPUDispatcher, plain: FunctionType, seen: dict[str, bool]) -> None:
        self.name, self.kernel, self.plain, self.seen = name, kernel, plain, seen

    def __call__(self, *given: Any) -> Any:
        if self.name in self.seen:
            return self.kernel(*given)
        mine = copy.deepcopy(given)
        compiled = self.kernel(*given)
        with np.errstate(over="ignore"):  # the generator's whole numbers run over on purpose
            try:
                expected = self.plain(*mine)
            except NotImplementedError:
                self.seen[self.name] = self.name in MACHINE_CODE
                return compiled
        self.seen[self.name] = alike(compiled, expected) and alike(list(given), list(mine))
        return compiled


class Doubled:
    """In the place of a module of kernels, for those who call them from Python: kernels that call one another go on as
    they are."""

    def __init__(self, module: ModuleType, both: dict[int, Both]) -> None:
        self._module, self._both = module, both

    def __getattr__(self, name: str) -> Any:
        value = getattr(self._module, name)
        return self._both.get(id(value), value)


@pytest.fixture
def seen(monkeypatch) -> dict[str, bool]:
    """Whether the first call of each kernel was alike, by name."""
    assert all(FAMILIES.values()), "families are imported when they are asked for"
    # one after the other: what others write meanwhile would count as written by a kernel
    monkeypatch.setattr(parallel, "default_threads", lambda: 1)
    outcome: dict[str, bool] = {}
    plain: dict[int, FunctionType] = {}
    both = {id(each): Both(name, each, interpreted(each, plain), outcome) for name, each in dispatchers().items()}
    for name, module in list(sys.modules.items()):
        if not name.startswith("gleaner.core") or name.startswith(kernels.__name__):
            continue
        for attribute, value in list(vars(module).items()):
            if isinstance(value, ModuleType) and value.__name__.startswith(f"{kernels.__name__}."):
                monkeypatch.setattr(module, attribute, Doubled(value, both))
            elif id(value) in both:
                monkeypatch.setattr(module, attribute, both[id(value)])
    return outcome


def test_kernels_do_interpreted_what_they_do_compiled(seen):
    warm.warm()
    assert [name for name, same in seen.items() if not same] == []
    # the others, whose names begin with a line or that only kernels call, are part of these
    called = set(seen) | {name for name in dispatchers() if name.partition(".")[2] in INNER or "._" in name}
    assert sorted(set(dispatchers()) - called) == []
