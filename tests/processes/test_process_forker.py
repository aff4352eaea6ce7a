"""Processes forked from one that has everything imported: what they are given, how they end, and with whom."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from gleaner.processes.process_forker import ForkRequest, ProcessForker
from stack import wait_for

ENTRIES = """
import os, signal, sys, threading, time

def tell(*given):
    print(given, os.environ["TOLD"], open("/proc/self/comm").read().strip())

def write(text, descriptor):
    os.write(descriptor, text.encode())

def leave(code):
    sys.exit(code)

def fail():
    raise ValueError("so it is")

def late():
    threading.Thread(target=lambda: (time.sleep(0.2), print("after all"))).start()

def stay():
    signal.pause()
"""
PARENT = """
import os, signal, sys
from gleaner.processes.process_forker import ForkRequest, ProcessForker
forker = {made}
process = forker.fork(ForkRequest("entries:stay", "stay", signal.SIGTERM))
print(forker.server, process.pid, flush=True)
sys.stdin.read()
"""


@pytest.fixture(scope="module")
def environment(tmp_path_factory) -> dict[str, str]:
    folder = tmp_path_factory.mktemp("entries")
    (folder / "entries.py").write_text(ENTRIES)
    return os.environ | {"PYTHONPATH": str(folder), "TOLD": "at the start"}


@pytest.fixture(scope="module")
def forker(environment) -> Iterator[ProcessForker]:
    result = ProcessForker.start(["entries"], environment)
    yield result
    result.close()


def request(entry: str, output: int | None = None, **more) -> ForkRequest:
    given = {"environment": {"TOLD": "when asked"}, "dies_by": signal.SIGTERM, "name": entry} | more
    return ForkRequest(f"entries:{entry}", output=output, **given)


def printed(forker: ProcessForker, path: Path, entry: str, **more) -> tuple[int, str]:
    with path.open("w") as output:
        code = forker.fork(request(entry, output.fileno(), **more)).wait(timeout=20)
    return code, path.read_text()


def test_a_process_has_what_it_was_given(forker, tmp_path):
    code, text = printed(forker, tmp_path / "out", "tell", arguments=[3, "four"])
    assert (code, text) == (0, "(3, 'four') when asked tell\n")
    reading, writing = os.pipe()
    process = forker.fork(request("write", arguments=["handed on"], descriptors=[writing]))
    os.close(writing)
    assert process.wait(timeout=20) == 0
    with os.fdopen(reading) as pipe:
        assert pipe.read() == "handed on"


def test_how_it_ended_is_known(forker, tmp_path):
    assert printed(forker, tmp_path / "out", "leave", arguments=[7])[0] == 7
    code, text = printed(forker, tmp_path / "out", "fail")
    assert code == 1
    assert text.endswith("ValueError: so it is\n")
    # what its threads have begun is done first
    assert printed(forker, tmp_path / "out", "late") == (0, "after all\n")
    staying = forker.fork(request("stay"))
    assert staying.poll() is None
    with pytest.raises(subprocess.TimeoutExpired):
        staying.wait(timeout=0.01)
    staying.kill()
    assert staying.wait(timeout=20) == staying.poll() == -signal.SIGKILL
    # nobody else is meant by a signal that comes too late
    staying.terminate()


def test_what_was_forked_ends_with_the_server_and_the_next_is_refused(environment):
    forker = ProcessForker.start(["entries"], environment)
    staying = forker.fork(request("stay"))
    assert forker.is_alive()
    os.kill(forker.server, signal.SIGKILL)
    assert staying.wait(timeout=20) == -signal.SIGTERM
    with pytest.raises(ConnectionError):
        forker.fork(request("stay"))
    assert not forker.is_alive()
    forker.close()


@pytest.mark.parametrize("made", ['ProcessForker.start(["entries"], os.environ)', "ProcessForker.of_this_process()"])
def test_nothing_outlives_the_process_that_asked(environment, made):
    asking = subprocess.Popen(
        [sys.executable, "-c", PARENT.format(made=made)],
        env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert asking.stdout is not None
    numbers = [int(each) for each in asking.stdout.readline().split()]
    assert all(Path(f"/proc/{each}").exists() for each in numbers)
    asking.kill()
    asking.communicate()
    wait_for(lambda: not any(Path(f"/proc/{each}").exists() for each in numbers))
