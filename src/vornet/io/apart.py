"""Work in a process of its own: it may take long, much memory, or end badly, and nobody else notices.

Every task gets a fresh process, forked from one that has the heavy packages loaded already, with a limit on memory and on
time; so many run at once, the others wait their turn. Such processes step back behind whoever answers pages.
"""

from __future__ import annotations

import contextlib
import gc
import multiprocessing
import multiprocessing.forkserver as forkserver
import os
import threading
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection as Pipe
from typing import Any, ParamSpec, TypeVar

from vornet.core.errors import InputError

P = ParamSpec("P")
R = TypeVar("R")

#: loaded once into the process that the others are forked from
LOADED = ("vornet.io.apart_loaded", "numpy", "scipy.special")
#: processes at a time and how many more may wait for their turn: of work that takes seconds, and of work that takes minutes
CORES = os.cpu_count() or 2
SHORT, LONG = (max(1, CORES - 1), 16), (max(1, CORES // 2), 6)
#: how long one waits for its turn, s
PATIENCE_S = 60.0
#: by how much such a process steps back behind others
NICE = 19
MEGABYTE = 1_000_000


class Ended(InputError):
    """The process ended before it had an answer: killed, or out of memory or time."""


class Turns:
    """So many at a time, so many waiting; whoever comes then is told so at once."""

    def __init__(self, at_once: int, waiting: int) -> None:
        self._free = threading.BoundedSemaphore(at_once)
        self._places = threading.BoundedSemaphore(at_once + waiting)

    @contextlib.contextmanager
    def turn(self) -> Iterator[None]:
        if not self._places.acquire(blocking=False):
            raise Ended("work", TOO_MUCH)
        try:
            if not self._free.acquire(timeout=PATIENCE_S):
                raise Ended("work", TOO_MUCH)
            try:
                yield
            finally:
                self._free.release()
        finally:
            self._places.release()


TOO_MUCH = "too much is being worked on just now: try again in a minute"
_context = multiprocessing.get_context("forkserver")
_short, _long = Turns(*SHORT), Turns(*LONG)


def prepare(*modules: str) -> None:
    """What is loaded, with some modules more, into the process that others are forked from; it starts when it is first needed, or when
    ``begin`` says so."""
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS"):  # a process is one worker: it takes one core
        os.environ.setdefault(name, "1")
    _context.set_forkserver_preload([*LOADED, *modules])


def begin() -> None:
    """Have the process ready that others are forked from."""
    forkserver.ensure_running()


def _limit(memory_mb: int, seconds: int) -> None:
    import resource

    held = 0
    with contextlib.suppress(OSError, ValueError), open("/proc/self/status") as status:
        held = next((int(line.split()[1]) * 1024 for line in status if line.startswith("VmData:")), 0)
    most = held + memory_mb * MEGABYTE
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    os.nice(NICE)
    gc.freeze()
    gc.enable()


def _run(pipe: Pipe, memory_mb: int, seconds: int, function: Callable[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any]) -> None:
    _limit(memory_mb, seconds)
    try:
        answer: tuple[bool, Any] = (True, function(*args, **kwargs))
    except MemoryError:
        answer = (False, Ended("file", f"takes more than {memory_mb:,} MB to work with"))
    except Exception as error:
        answer = (False, error)
    try:
        pipe.send(answer)
    except Exception as error:  # what cannot be handed over
        pipe.send((False, RuntimeError(f"{type(error).__name__}: {error}")))
    finally:
        pipe.close()


def long(function: Callable[P, R], /, *args: P.args, **kwargs: P.kwargs) -> R:
    """``function(*args, **kwargs)`` in a process of its own with 3 GB and ten minutes of the processor; see ``short``."""
    return _through(_long, 3000, 600, function, args, kwargs)


def short(memory_mb: int, seconds: int, function: Callable[P, R], /, *args: P.args, **kwargs: P.kwargs) -> R:
    """Run a function of a module in a process of its own and give its answer, or raise what it raised.

    ``memory_mb``: how much it may take beyond what is loaded; ``seconds`` of the processor, and twice that by the clock.
    Raises Ended when the process is gone without an answer.
    """
    return _through(_short, memory_mb, seconds, function, args, kwargs)


def _through(turns: Turns, memory_mb: int, seconds: int, function: Callable[..., R], args: tuple[Any, ...], kwargs: dict[str, Any]) -> R:
    with turns.turn():
        here, there = _context.Pipe(duplex=False)
        process = _context.Process(target=_run, args=(there, memory_mb, seconds, function, args, kwargs), daemon=True)
        process.start()
        there.close()
        try:
            if not here.poll(seconds * 2):
                raise Ended("work", f"took longer than {seconds * 2} s and was stopped")
            good, answer = here.recv()
        except EOFError:
            raise Ended("work", "needed more memory or time than it may have, and was stopped") from None
        finally:
            here.close()
            process.kill()
            process.join()
    if not good:
        raise answer
    return answer  # type: ignore[no-any-return]
