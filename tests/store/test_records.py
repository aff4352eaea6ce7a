"""What comes out of the store: frozen records, and no messages of the API."""

from __future__ import annotations

import dataclasses
import importlib
import inspect
import pkgutil
from typing import get_args, get_type_hints

from gleaner import store
from gleaner.store import records
from gleaner.wire.common import Message


def modules(package) -> list:
    return [
        importlib.import_module(f"{package.__name__}.{each.name}")
        for each in pkgutil.iter_modules(package.__path__)
        if not each.ispkg
    ]


def classes_in(annotation) -> set[type]:
    inner = set().union(*(classes_in(each) for each in get_args(annotation)))
    return inner | ({annotation} if inspect.isclass(annotation) else set())


def test_no_function_answers_with_a_message():
    looked_at, answers = 0, []
    for module in modules(store):
        for name, function in inspect.getmembers(module, inspect.isfunction):
            if function.__module__ == module.__name__ and not name.startswith("_"):
                looked_at += 1
                given = classes_in(get_type_hints(function).get("return"))
                answers += [f"{module.__name__}.{name}: {each}" for each in given if issubclass(each, Message)]
    assert looked_at > 80
    assert answers == []


def test_every_record_is_frozen():
    every = [
        each
        for module in modules(records)
        for _, each in inspect.getmembers(module, inspect.isclass)
        if each.__module__ == module.__name__
    ]
    assert len(every) > 20
    assert [each for each in every if not (dataclasses.is_dataclass(each) and each.__dataclass_params__.frozen)] == []
