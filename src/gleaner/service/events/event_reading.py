"""Bodies of events: ours, one or several, as JSON or NDJSON, and CloudEvents 1.0 over HTTP in all three of its modes.

A CloudEvent's `id`, `source` and `time` are the event's; its data holds what is left of ours, `data` (the dataset)
included; without a kind in its data the last part of its `type` is the kind, as in `exchange.save`.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import unquote

from pydantic import BaseModel, TypeAdapter, ValidationError
from pydantic_core import from_json

from gleaner.core.errors import InputError
from gleaner.service.http.problems import FieldsError
from gleaner.wire.common import FieldProblem
from gleaner.wire.events import MAX_BATCH, Event, EventsRequest, OneEvent
from gleaner.wire.fields import sentence

ONE, SEVERAL = "application/cloudevents+json", "application/cloudevents-batch+json"
NDJSON = "application/x-ndjson"
MANY = TypeAdapter(list[OneEvent])
ENVELOPE = {"specversion", "id", "source", "type", "subject", "time", "datacontenttype", "dataschema", "data"}


def read_events(headers: Mapping[str, str], body: bytes) -> EventsRequest:
    """The events of a body. Raises InputError or FieldsError naming what is wrong."""
    media = headers.get("content-type", "application/json").partition(";")[0].strip().lower()
    try:
        if media == ONE:
            return _of_one_dataset([_opened(_parsed(body), 0)])
        if media == SEVERAL:
            return _of_one_dataset([_opened(each, place) for place, each in enumerate(_listed(_parsed(body)))])
        if "ce-specversion" in headers:
            return _of_one_dataset([_opened(_binary(headers, body), 0)])
        if media == NDJSON:
            lines = [line for line in body.splitlines() if line.strip()]
            return _of_one_dataset([_parsed(line, place) for place, line in enumerate(lines)])
        if media != "application/json":
            taken = f"application/json, {NDJSON}, {ONE} or {SEVERAL}"
            raise InputError(f"content type {media!r} is not taken; send {taken}", where="Content-Type")
        return _ours(_parsed(body))
    except ValidationError as error:
        raise _as_fields(error) from None


def _ours(content: Any) -> EventsRequest:
    if isinstance(content, list):
        return _of_one_dataset(content)
    if isinstance(content, dict) and "events" in content:
        return EventsRequest.model_validate(content)
    return _of_one_dataset([content])


def _of_one_dataset(contents: list[Any]) -> EventsRequest:
    if not contents:
        raise InputError("there is no event in the body", where="events")
    if len(contents) > MAX_BATCH:
        raise InputError(f"{len(contents):,} events are more than the {MAX_BATCH:,} of one call", where="events")
    events = MANY.validate_python(contents)
    names = list(dict.fromkeys(event.data for event in events))
    if len(names) > 1:
        raise InputError(f"one call takes events of one dataset; this one names {', '.join(names)}", where="data")
    return EventsRequest.model_construct(data=names[0], events=list[Event](events))


def _parsed(body: bytes, place: int | None = None) -> Any:
    try:
        return from_json(body, allow_inf_nan=False)
    except ValueError as error:
        where = "body" if place is None else f"events.{place}"
        raise InputError(f"this is not JSON: {error}", where=where) from None


def _listed(content: Any) -> list[Any]:
    if not isinstance(content, list):
        raise InputError(f"a body of {SEVERAL} is a list", where="body")
    return content


def _binary(headers: Mapping[str, str], body: bytes) -> dict[str, Any]:
    """The mode in which the envelope's attributes are headers."""
    named = {name[3:]: unquote(value) for name, value in headers.items() if name.startswith("ce-")}
    return {**named, "data": _parsed(body)}


def _opened(envelope: Any, place: int) -> dict[str, Any]:
    """A CloudEvent as one of ours. Other attributes of its own are passed over, as the specification asks."""
    at = f"events.{place}"
    if not isinstance(envelope, dict):
        raise InputError("a CloudEvent is a mapping", where=at)
    for name in ("id", "source", "type", "specversion"):
        if not isinstance(envelope.get(name), str) or not envelope[name]:
            raise InputError(f"a CloudEvent has a text {name!r}", where=f"{at}.{name}")
    if not envelope["specversion"].startswith("1."):
        raise InputError("CloudEvents of version 1 are taken", where=f"{at}.specversion")
    data = envelope.get("data")
    if not isinstance(data, dict):
        raise InputError("its data is a mapping with data, user and item", where=f"{at}.data")
    own = {name: envelope[name] for name in ("id", "source", "time") if envelope.get(name) is not None}
    return {"kind": envelope["type"].rpartition(".")[2], **data, **own}


def _sentence(error: Any) -> str:
    """What is wrong; the fields of an event are known by the place in its list."""
    path = list(error["loc"])
    at = next((place for place, step in enumerate(path) if isinstance(step, int)), None)
    root: type[BaseModel] = EventsRequest if at is None else Event
    return sentence(root, dict(error) | {"loc": tuple(path if at is None else path[at + 1 :])})


def _as_fields(error: ValidationError) -> FieldsError:
    fields = []
    for each in error.errors():
        path = [str(step) for step in each["loc"]]
        path = path if path[:1] == ["events"] or path == ["data"] else ["events", *path]
        fields.append(FieldProblem(field=".".join(path), message=_sentence(each)))
    text = "; ".join(f"{each.field}: {each.message}" for each in fields[:3])
    more = f"; and {len(fields) - 3} more" if len(fields) > 3 else ""
    return FieldsError(f"{text}{more}; none was kept", fields[:20])
