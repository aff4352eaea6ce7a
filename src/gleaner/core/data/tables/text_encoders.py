"""Texts as vectors, by models that the user supplies: a folder each, with `model.onnx` and `tokenizer.json`.

Nothing is fetched, and nothing but these two files is read. Needs the optional packages of `gleaner[text]`.
"""

from __future__ import annotations

import re
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path
from typing import Any

import numpy as np

from gleaner.core.errors import InputError, near
from gleaner.core.parallel import default_threads

MODEL, TOKENIZER = "model.onnx", "tokenizer.json"
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,99}")
MOST_TOKENS = 256
"""Of one text; what is beyond is not read."""

AT_ONCE = 32
"""Texts of about the same length that go through the network together."""

KEPT = 4
"""Columns of texts whose vectors are kept, so that several fits on the same items encode them once."""

WHERE = "text_encoder"

ReportProgress = Callable[[float], None]
"""Hears the share done. Raises CancelledError to stop."""


@dataclass(frozen=True)
class TextEncoders:
    """The model folders under a root; None for none."""

    root: Path | None = None

    def names(self) -> list[str]:
        """Folders that hold both files."""
        if self.root is None or not self.root.is_dir():
            return []
        return sorted(each.name for each in self.root.iterdir() if _is_whole(each) and NAME.fullmatch(each.name))

    def folder(self, name: str) -> Path:
        """One of them. Raises InputError naming those that there are."""
        names = self.names()
        if self.root is None or name not in names:
            has = near(name, names) if names else f"; a folder with {MODEL} and {TOKENIZER} makes one"
            raise InputError(f"there is no text encoder {name!r}{has}", where=WHERE)
        return self.root / name

    def encode(self, name: str, texts: Sequence[str | None], report_progress: ReportProgress) -> np.ndarray:
        """A vector of length one of every text, zeros where it is missing or empty: float32 (n, width).

        The mean of the vectors of its tokens where the network answers one for each, and its own answer where that is
        one for the text (Reimers, Gurevych 2019). Raises InputError where the folder does not hold such a network.
        """
        folder = self.folder(name)
        key = (str(folder), (folder / MODEL).stat().st_mtime_ns, _digest(texts))
        if key not in _KEPT:
            _KEPT[key] = _Network.open(folder).encode(texts, report_progress)
            while len(_KEPT) > KEPT:
                _KEPT.popitem(last=False)
        _KEPT.move_to_end(key)
        return _KEPT[key]


NO_TEXT_ENCODERS = TextEncoders()
_KEPT: OrderedDict[tuple[str, int, bytes], np.ndarray] = OrderedDict()


def _is_whole(folder: Path) -> bool:
    return (folder / MODEL).is_file() and (folder / TOKENIZER).is_file()


def _digest(texts: Sequence[str | None]) -> bytes:
    hashed = blake2b(digest_size=16)
    for text in texts:
        hashed.update(b"-" if text is None else b"+" + text.encode() + b"\0")
    return hashed.digest()


@dataclass(frozen=True, eq=False)
class _Network:
    """An opened folder. session: of ONNX Runtime. tokenizer: cuts a text into the numbers of its tokens."""

    name: str
    session: Any
    tokenizer: Any

    @classmethod
    def open(cls, folder: Path) -> _Network:
        try:
            import onnxruntime
            from tokenizers import Tokenizer
        except ImportError as error:
            text = f"text encoders need the optional packages of gleaner[text]: {error.name} is not installed"
            raise InputError(text, where=WHERE) from None
        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads, options.inter_op_num_threads = default_threads(), 1
        options.log_severity_level = 4
        try:
            session = onnxruntime.InferenceSession(str(folder / MODEL), options, providers=["CPUExecutionProvider"])
            tokenizer = Tokenizer.from_file(str(folder / TOKENIZER))
        except Exception as error:  # both libraries raise errors of their own, of many sorts
            text = f"the text encoder {folder.name!r} cannot be read: {_first_line(error)}"
            raise InputError(text, where=WHERE) from None
        tokenizer.enable_truncation(MOST_TOKENS)
        tokenizer.no_padding()
        return cls(folder.name, session, tokenizer)

    def encode(self, texts: Sequence[str | None], report_progress: ReportProgress) -> np.ndarray:
        tokens = [each.ids for each in self.tokenizer.encode_batch([text or "" for text in texts])]
        lengths = np.array([len(ids) if text else 0 for ids, text in zip(tokens, texts, strict=True)])
        order = np.argsort(lengths, kind="stable")
        order = order[lengths[order] > 0]
        vectors: np.ndarray | None = None
        for lo in range(0, len(order), AT_ONCE):
            rows = order[lo : lo + AT_ONCE]
            some = self._vectors([tokens[row] for row in rows])
            if vectors is None:
                vectors = np.zeros((len(texts), some.shape[1]), np.float32)
            vectors[rows] = some
            report_progress(min(1.0, (lo + AT_ONCE) / len(order)))
        if vectors is None:
            raise InputError("there is no text to encode", where=WHERE)
        lengths_of = np.linalg.norm(vectors, axis=1, keepdims=True)
        return vectors / np.where(lengths_of > 0, lengths_of, 1)

    def _vectors(self, tokens: list[list[int]]) -> np.ndarray:
        width = max(map(len, tokens))
        ids, mask = (np.zeros((len(tokens), width), np.int64) for _ in range(2))
        for row, each in enumerate(tokens):
            ids[row, : len(each)], mask[row, : len(each)] = each, 1
        given = {"input_ids": ids, "attention_mask": mask, "token_type_ids": np.zeros_like(ids)}
        wanted = [each.name for each in self.session.get_inputs()]
        unknown = [name for name in wanted if name not in given]
        if unknown:
            text = f"the text encoder {self.name!r} asks for {unknown[0]!r}; it may ask for {', '.join(given)}"
            raise InputError(text, where=WHERE)
        try:
            answer = np.asarray(self.session.run(None, {name: given[name] for name in wanted})[0], dtype=np.float32)
        except Exception as error:  # an error of the runtime's own, such as a token that the network does not have
            raise InputError(f"the text encoder {self.name!r} failed: {_first_line(error)}", where=WHERE) from None
        if answer.ndim == 3 and answer.shape[:2] == ids.shape:
            answer = (answer * mask[:, :, None]).sum(axis=1) / mask.sum(axis=1, keepdims=True)
        if answer.ndim != 2 or len(answer) != len(tokens) or not np.isfinite(answer).all():
            text = (
                f"the text encoder {self.name!r} answers an array of shape {answer.shape}; "
                "a finite vector of each text, or of each of its tokens, is needed"
            )
            raise InputError(text, where=WHERE)
        return answer


def _first_line(error: Exception) -> str:
    return (str(error).strip().splitlines() or [type(error).__name__])[0][:300]
