"""Asks for processes to be forked from one that has everything imported."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field

from gleaner.processes.fork_server import MESSAGE_BYTES, ForkServer, run_and_exit
from gleaner.processes.forked_process import ForkedProcess
from gleaner.processes.life import call_process, die_with_parent


@dataclass(frozen=True)
class ForkRequest:
    """entry: `module:function`, called with the arguments and then the descriptors, as numbers of its own.

    name: as `ps -o comm` shows it. dies_by: the signal that it gets when the process it was forked from ends.
    output: a descriptor for what it prints; our own standard error where there is none.
    """

    entry: str
    name: str
    dies_by: signal.Signals
    arguments: Sequence[int | str] = ()
    environment: dict[str, str] = field(default_factory=lambda: dict(os.environ))
    output: int | None = None
    descriptors: Sequence[int] = ()


class ProcessForker:
    """The other end of a ForkServer. It and all that it forked end when this process does, or drops this.

    Raises ConnectionError from `fork` when the server has ended; a new one has to be started then.
    """

    def __init__(self, control: socket.socket, server: int, started: subprocess.Popen[bytes] | None = None) -> None:
        self.server = server
        self._control = control
        self._started = started
        self._lock = threading.Lock()
        self._dies_by: dict[int, signal.Signals] = {}
        self._codes: dict[int, int] = {}

    @classmethod
    def start(
        cls, modules: Sequence[str], environment: dict[str, str], output: int | None = None, *, isolated: bool = False
    ) -> ProcessForker:
        """A server of its own that imports the modules; requests wait until it has. isolated: it imports what is
        installed, and nothing from the folder it is started in or from places that its environment names."""
        ours, theirs = _pair()
        with theirs:
            started = subprocess.Popen(
                [sys.executable, *(["-I"] if isolated else []), "-m", "gleaner.processes.fork_server",
                 str(theirs.fileno()), *modules],
                env=environment, stdin=subprocess.DEVNULL, stdout=output, stderr=output, start_new_session=True,
                pass_fds=[theirs.fileno()],
            )  # fmt: skip
        return cls(ours, started.pid, started)

    @classmethod
    def of_this_process(cls) -> ProcessForker:
        """A server forked from this process, with all that it has imported. Only while it has one thread and no
        connection. The server is killed when this process ends, and all that it forked with it."""
        ours, theirs = _pair()
        own = os.getpid()
        server = os.fork()
        if server == 0:
            ours.close()
            run_and_exit(lambda: _serve(theirs, own))
        theirs.close()
        return cls(ours, server)

    def fork(self, request: ForkRequest) -> ForkedProcess:
        """A new process. Raises ConnectionError when the server has ended."""
        message = {
            "entry": request.entry, "name": request.name, "dies_by": request.dies_by,
            "arguments": list(request.arguments), "environment": request.environment,
        }  # fmt: skip
        output = sys.stderr.fileno() if request.output is None else request.output
        with self._lock:
            socket.send_fds(self._control, [json.dumps(message).encode()], [output, *request.descriptors])
            while (process := self._read().get("started")) is None:
                pass
            self._dies_by[process] = request.dies_by
        return ForkedProcess(process, self._exit_code_of)

    def _exit_code_of(self, process: int) -> int:
        """Of one that has ended. A server that is lost, or closed here, tells no more: it took the others with it."""
        with self._lock:
            try:
                while process not in self._codes:
                    self._read()
            except OSError:
                return -self._dies_by[process]
            del self._dies_by[process]
            return self._codes.pop(process)

    def _read(self) -> dict[str, int]:
        """The next message. Raises ConnectionError when there is nobody to send one."""
        text = self._control.recv(MESSAGE_BYTES)
        if not text:
            raise ConnectionResetError(f"the process {self.server} that others are forked from has ended")
        message: dict[str, int] = json.loads(text)
        if "ended" in message:
            self._codes[message["ended"]] = message["code"]
        return message

    def is_alive(self) -> bool:
        """Whether the server is there to be asked."""
        try:
            return bool(self._control.recv(1, socket.MSG_PEEK | socket.MSG_DONTWAIT))
        except BlockingIOError:
            return True
        except ConnectionError:
            return False

    def close(self) -> None:
        """End the server, and with it what it forked."""
        self._control.close()
        if self._started is not None:
            self._started.wait()
            return
        with contextlib.suppress(ChildProcessError):
            os.waitpid(self.server, 0)


def _pair() -> tuple[socket.socket, socket.socket]:
    """Two ends that keep messages apart."""
    return socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)


def _serve(control: socket.socket, parent: int) -> None:
    die_with_parent(signal.SIGKILL)
    if os.getppid() == parent:
        call_process("gleaner fork")
        ForkServer(control).serve()
