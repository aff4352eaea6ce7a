"""The process that others are forked from: it has everything imported, starts no thread and holds no connection.

`python -m gleaner.processes.fork_server FD MODULE...` imports the modules and forks what it is asked for on the socket.
"""

from __future__ import annotations

import gc
import importlib
import json
import os
import select
import signal
import socket
import sys
import threading
import traceback
from collections.abc import Callable
from typing import Any

from gleaner.processes.life import call_process, die_with_parent

MESSAGE_BYTES = 1 << 18
DESCRIPTORS = 8


class ForkServer:
    """Forks processes as it is asked to, and tells how each of them ended.

    control: a socket that keeps messages apart. A request names the process's entry, arguments, name, environment and
    the signal that it gets when this process ends; its descriptors come along, the first as its output.
    """

    def __init__(self, control: socket.socket) -> None:
        self.control = control
        self.own = os.getpid()
        self._ended, told = os.pipe()
        os.set_blocking(self._ended, False)
        os.set_blocking(told, False)
        self._told = told
        signal.set_wakeup_fd(told, warn_on_full_buffer=False)
        # a signal that is ignored wakes nobody
        signal.signal(signal.SIGCHLD, lambda *_: None)
        # Ctrl-C in a terminal reaches everybody; it is the one who asks for processes that ends them in order
        signal.signal(signal.SIGINT, signal.SIG_IGN)

    def serve(self) -> None:
        """Until the other end is closed. In a process that was forked this does not come back either: it exits."""
        poll = select.poll()
        poll.register(self.control, select.POLLIN)
        poll.register(self._ended, select.POLLIN)
        while True:
            ready = {descriptor for descriptor, _ in poll.poll()}
            if self._ended in ready:
                self._tell_ended()
            if self.control.fileno() in ready:
                message, descriptors, *_ = socket.recv_fds(self.control, MESSAGE_BYTES, DESCRIPTORS)
                if not message:
                    return
                self._fork(json.loads(message), descriptors)

    def _fork(self, request: dict[str, Any], descriptors: list[int]) -> None:
        process = os.fork()
        if process == 0:
            run_and_exit(lambda: self._become(request, descriptors))
        for each in descriptors:
            os.close(each)
        self._tell({"started": process})

    def _tell_ended(self) -> None:
        while True:
            try:
                if not os.read(self._ended, 4096):
                    return
            except BlockingIOError:
                break
        while True:
            try:
                process, status = os.waitpid(-1, os.WNOHANG)
            except ChildProcessError:
                return
            if process == 0:
                return
            self._tell({"ended": process, "code": os.waitstatus_to_exitcode(status)})

    def _tell(self, message: dict[str, int]) -> None:
        try:
            self.control.send(json.dumps(message).encode())
        except BrokenPipeError:
            # whoever asked is gone, and the next look at the socket ends this process as well
            return

    def _become(self, request: dict[str, Any], descriptors: list[int]) -> None:
        """What was asked for, in the process forked for it."""
        die_with_parent(signal.Signals(request["dies_by"]))
        if os.getppid() != self.own:
            return
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        self.control.close()
        os.close(self._ended)
        os.close(self._told)
        os.setsid()
        call_process(request["name"])
        os.environ.clear()
        os.environ.update(request["environment"])
        output, *handed = descriptors
        os.dup2(output, 1)
        os.dup2(output, 2)
        os.close(output)
        module, _, function = request["entry"].partition(":")
        entry: Callable[..., None] = getattr(importlib.import_module(module), function)
        entry(*request["arguments"], *handed)


def run_and_exit(work: Callable[[], None]) -> None:
    """Run the work of a process just forked and end it: what its parent has begun is not for it to finish."""
    code: int | str | None = 1
    try:
        work()
        code = 0
    except SystemExit as ending:
        code = ending.code
    except BaseException:
        traceback.print_exc()
    finally:
        # threads that are still at work, and those that wait for more of it
        try:
            threading._shutdown()  # type: ignore[attr-defined]
            sys.stdout.flush()
            sys.stderr.flush()
        finally:
            os._exit(code if isinstance(code, int) else int(code is not None))


def freeze_imports() -> None:
    """What is imported lives as long as the process: looking through it for garbage would copy its pages into every
    process that is forked."""
    gc.freeze()
    gc.enable()


def main() -> None:
    """Entry of a server that is started afresh. It ends when whoever started it has ended, which closes the socket."""
    # nothing that imports leave behind is garbage, and looking for it takes a fifth of the start
    gc.disable()
    control = socket.socket(fileno=int(sys.argv[1]))
    call_process("gleaner fork")
    for module in sys.argv[2:]:
        importlib.import_module(module)
    freeze_imports()
    ForkServer(control).serve()


if __name__ == "__main__":
    main()
