"""Starts of the installed program, many hundred in a run of the tests, and one loading of it.

A process that has loaded every module of the program and done nothing else waits; each start is a
child of it, with words, folder, environment and streams of its own. What decides before a program's
first line (its own loading, the language, how Python is set) needs a real start and gets one.
"""

import atexit
import contextlib
import functools
import gc
import importlib
import json
import os
import pkgutil
import selectors
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

BEFORE = ("LC_", "LANG", "PYTHON")
"""Beginnings of settings that Python reads before a program's first line."""


def start_program(program, words, stdin="", env=None, timeout=120):
    """Like `subprocess.run` with both outputs kept, as bytes; env: what differs from ours."""
    words, env = [str(program), *map(str, words)], env or {}
    whole = {**os.environ, **env}
    if os.environ.get("MENDING_EVERY_FAULT") or _is_measured() or _set_before(env):
        return subprocess.run(
            words, input=stdin.encode(), capture_output=True, env=whole, timeout=timeout
        )
    with contextlib.ExitStack() as stack:
        files = [stack.enter_context(tempfile.TemporaryFile()) for _ in range(4)]
        asked = json.dumps([words, str(Path.cwd()), whole])
        for file, text in zip(files[:2], (asked, stdin), strict=True):
            file.write(text.encode(errors="surrogateescape"))
            file.seek(0)
        here, there = map(stack.enter_context, socket.socketpair())
        sent = [file.fileno() for file in (*files, there)]
        socket.send_fds(_loaded_program(os.getpid()), [b"+"], sent)
        there.close()
        status = _status(here, timeout)
        said = [file.read() for file in files[2:] if not file.seek(0)]
    return subprocess.CompletedProcess(words, status, *said)


def _is_measured():
    """Whether it is measured which lines run, here and in the programs that are started."""
    coverage = sys.modules.get("coverage")
    return coverage is not None and coverage.Coverage.current() is not None


def _set_before(env):
    return any(name.startswith(BEFORE) for name in env)


def _status(line, timeout):
    """The exit status of a start; one that takes too long is ended."""
    line.settimeout(timeout)
    number = int(line.recv(20))
    try:
        return int(line.recv(20))
    except TimeoutError:
        os.kill(number, signal.SIGKILL)
        raise


@functools.cache
def _loaded_program(_process):
    """The line to the waiting process of this one; it ends when the line does."""
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with there:
        waiting = subprocess.Popen(
            [sys.executable, __file__, str(there.fileno())], pass_fds=[there.fileno()]
        )

    def end():
        here.close()
        waiting.wait()

    atexit.register(end)
    return here


# --- in the process that waits ---


def _load():
    import mending  # noqa: PLC0415 - only the waiting process loads the program

    for module in pkgutil.walk_packages(mending.__path__, "mending."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    gc.collect()
    gc.freeze()


def _serve(line):
    """Returns only in a child that is to be the program."""
    watched, replies = selectors.DefaultSelector(), {}
    watched.register(line, selectors.EVENT_READ)
    while True:
        for key, _ in watched.select():
            if key.fileobj is line:
                found, given, *_ = socket.recv_fds(line, 1, 5)
                if not found:
                    os._exit(0)
                number = os.fork()
                if not number:
                    watched.close()
                    line.close()
                    _become(given)
                    return
                reply = socket.socket(fileno=given.pop())
                reply.send(str(number).encode().ljust(20))
                for handle in given:
                    os.close(handle)
                ended = os.pidfd_open(number)
                watched.register(ended, selectors.EVENT_READ)
                replies[ended] = (number, reply)
            else:
                watched.unregister(key.fd)
                os.close(key.fd)
                number, reply = replies.pop(key.fd)
                status = os.waitstatus_to_exitcode(os.waitpid(number, 0)[1])
                with reply, contextlib.suppress(BrokenPipeError):
                    reply.send(str(status).encode())


def _become(given):
    """Take over the words, folder, environment and streams of a start."""
    asked, *streams, reply = given
    with os.fdopen(asked, "rb") as file:
        words, folder, env = json.loads(file.read())
    for number, handle in enumerate(streams):
        os.dup2(handle, number)
        os.close(handle)
    os.close(reply)
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(env)
    time.tzset()
    sys.argv[:] = words


if __name__ == "__main__":
    sys.path.remove(str(Path(__file__).parent))
    _load()
    _serve(socket.socket(fileno=int(sys.argv[1])))
    from mending.cli import main

    try:
        main()
    except SystemExit as ended:
        # What was loaded need not be taken apart, which would take as long as the command.
        threading._shutdown()
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(ended.code)
