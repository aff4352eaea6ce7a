"""Parts that every message shares."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Generic, Self, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, StringConstraints

T = TypeVar("T")

NAME_PART = "[a-z0-9][a-z0-9_-]{0,62}"
NAME_PATTERN = f"^{NAME_PART}$"

Name = Annotated[str, StringConstraints(pattern=NAME_PATTERN)]
"""A name of a dataset, contest or shelf: lower-case letters, digits, `-` and `_`, up to 63."""


WITHOUT_NUL = r"^[^\u0000]*$"
MAX_ID_BYTES = 1000


def _require_few_bytes(text: str) -> str:
    n_bytes = len(text.encode("utf-8", "surrogatepass"))
    if n_bytes > MAX_ID_BYTES:
        raise ValueError(f"it has {n_bytes:,} bytes, and at most {MAX_ID_BYTES:,} are allowed")
    return text


FewBytes = AfterValidator(_require_few_bytes)
Id = Annotated[str, StringConstraints(min_length=1, max_length=1000, pattern=WITHOUT_NUL), FewBytes]
"""An id of a user or an item, as it came: at most 1,000 bytes in UTF-8, none of them NUL."""


ContextName = Annotated[str, StringConstraints(min_length=1, max_length=100, pattern=WITHOUT_NUL)]
ContextValue = Annotated[str, Field(max_length=1000)] | bool | float | None
"""A column of an interaction in a request: a text, a number, a flag, or missing."""

MAX_CONTEXT = 50


Label = Annotated[str, StringConstraints(max_length=200)]
"""A name that refers to something, such as seeds@3, a column or a metric."""


UploadName = Annotated[str, StringConstraints(pattern="^u-[0-9a-f]{16}$")]
"""What /v1/uploads answered."""


def plain_message(error: Mapping[str, Any]) -> str:
    """What one of Pydantic's errors says, in words for whoever wrote the field."""
    if error["type"] == "string_pattern_mismatch" and NAME_PART in error["ctx"]["pattern"]:
        return "a name has lower-case letters, digits, - and _, 63 at most, and begins with a letter or digit"
    if error["type"] == "string_pattern_mismatch" and error["ctx"]["pattern"] == WITHOUT_NUL:
        return "the character NUL cannot be kept"
    return str(error["msg"]).removeprefix("Value error, ")


class Message(BaseModel):
    """Base of all messages: unknown fields are refused, so that a misspelt one is not silently ignored."""

    model_config = ConfigDict(extra="forbid", protected_namespaces=())

    @classmethod
    def of_record(cls, record: object) -> Self:
        """The message of something that has its fields as attributes, such as what the store keeps."""
        return cls.model_validate(record, from_attributes=True)


class Page(Message, Generic[T]):
    """One page of a list. Ask again with `after=next` for the following one."""

    items: list[T]
    next: str | None = Field(None, description="Cursor of the following page; null on the last one.")


class FieldProblem(Message):
    """One thing that is wrong with what was sent."""

    field: str = Field(description="Path of the field, column or option.")
    message: str
    line: int | None = Field(None, description="Line in the file that was sent, where there is one.")


class Problem(Message):
    """RFC 9457 problem document. `type` is stable; `errors` lists every field at fault."""

    type: str = Field(examples=["urn:gleaner:problem:not-found"])
    title: str
    status: int
    detail: str
    instance: str | None = None
    errors: list[FieldProblem] = []
    request_id: str | None = None


class Version(Message):
    """Which service answers."""

    service: str = "gleaner"
    version: str


class PlainTable(Message):
    """Columns by name, and rows of text, numbers and flags."""

    columns: list[Label] = Field(min_length=1, max_length=500)
    rows: list[
        Annotated[
            list[Annotated[str, StringConstraints(max_length=10_000)] | float | bool | None], Field(max_length=500)
        ]
    ] = Field(max_length=100_000)
