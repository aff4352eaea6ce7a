"""The `gleaner` command called in the tests' own process: the same entry point, without its start."""

from __future__ import annotations

import contextlib
import io
import sys
import traceback
from unittest import mock

from gleaner.cli import main


def call(*arguments: str, **environment: str) -> tuple[int, str, str]:
    """Exit code and what was printed on either stream; a traceback where there was one."""
    out, err = io.StringIO(), io.StringIO()
    with (
        mock.patch.object(sys, "argv", ["gleaner", *arguments]),
        mock.patch.object(sys, "stdin", io.StringIO()),
        mock.patch.dict("os.environ", {"COLUMNS": "140"} | environment),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            main.run()
            code = 0
        except SystemExit as ending:
            code = int(ending.code or 0)
        except Exception:
            err.write(traceback.format_exc())
            code = 1
    return code, out.getvalue(), err.getvalue()
