"""Reports of crashes in native code: a signal that would end the process in, a file with the stacks of all Python threads and
of the C code out, which the next start reads. Pure Python faults are caught elsewhere."""

from __future__ import annotations

import contextlib
import ctypes
import faulthandler
import logging
import os
import signal
from datetime import datetime
from pathlib import Path
from typing import IO, Any

import platformdirs

SIGNALS = (signal.SIGSEGV, signal.SIGABRT, signal.SIGBUS, signal.SIGFPE, signal.SIGILL)
DEEPEST = 64  # frames of the C stack
# What runs in the signal handler: only calls that POSIX and glibc allow there. backtrace(3), signal-safety(7).
HANDLER = """
declare i32 @backtrace(ptr, i32)
declare void @backtrace_symbols_fd(ptr, i32, i32)
declare i64 @write(i32, ptr, i64)
declare ptr @signal(i32, ptr)
declare i32 @raise(i32)
@head = private constant [10 x i8] c"\\0AC stack:\\0A"
define void @write_c_stack(i32 %signal) {{
  %frames = alloca [{deepest} x ptr]
  %count = call i32 @backtrace(ptr %frames, i32 {deepest})
  call i64 @write(i32 {file}, ptr @head, i64 10)
  call void @backtrace_symbols_fd(ptr %frames, i32 %count, i32 {file})
  call ptr @signal(i32 %signal, ptr null)
  call i32 @raise(i32 %signal)
  ret void
}}
"""

log = logging.getLogger(__name__)
_held: list[Any] = []  # the file and the machine code, which have to outlive everything else


def crash_folder() -> Path:
    """The folder of reports: under the platform's place for a user's state."""
    return Path(platformdirs.user_state_dir("common-bench")) / "crashes"


def watch_for_crashes(who: str) -> None:
    """From now on this process writes a report where native code fails. A folder that cannot be written to costs the report
    alone.

    who: `window` or `engine`, part of the file's name.
    """
    try:
        crash_folder().mkdir(parents=True, exist_ok=True)
        file = (crash_folder() / f"{who}-{os.getpid()}.txt").open("w", encoding="utf-8")
    except OSError:
        return
    faulthandler.enable(file)
    _held.append(file)


def watch_c_stack() -> None:
    """Adds the C stack to the report. It costs some 50 ms and a library, so that it is called once the window is there."""
    files: list[IO[str]] = [each for each in _held if hasattr(each, "fileno")]
    if not files:
        return
    try:
        import llvmlite.binding as llvm

        llvm.initialize_native_target()
        llvm.initialize_native_asmprinter()
        code = llvm.parse_assembly(HANDLER.format(deepest=DEEPEST, file=files[-1].fileno()))
        compiler = llvm.create_mcjit_compiler(code, llvm.Target.from_default_triple().create_target_machine())
        compiler.finalize_object()
        place = compiler.get_function_address("write_c_stack")
        libc = ctypes.CDLL(None)
        libc.signal.argtypes, libc.signal.restype = (ctypes.c_int, ctypes.c_void_p), ctypes.c_void_p
        libc.backtrace((ctypes.c_void_p * 1)(), 1)  # its library is loaded now, not in the handler
        faulthandler.disable()
        for each in SIGNALS:
            libc.signal(each, place)
        faulthandler.enable(files[-1])  # before the C stack, which it hands on to
    except Exception:
        log.warning("the C stack cannot be watched", exc_info=True)
        faulthandler.enable(files[-1])
    else:
        _held.append(compiler)


def end_watching() -> None:
    """The process ends as it should: its report, which is empty, goes."""
    for each in _held:
        if hasattr(each, "fileno"):
            faulthandler.disable()
            each.close()
            Path(each.name).unlink(missing_ok=True)
    _held[:] = [each for each in _held if not hasattr(each, "fileno")]


def take_reports() -> list[tuple[datetime, str]]:
    """When and how processes crashed since somebody last asked, oldest first; empty files of processes that were killed
    are removed. What is taken is given once."""
    found: list[tuple[datetime, str]] = []
    with contextlib.suppress(OSError):
        for path in sorted(crash_folder().glob("*-*.txt"), key=lambda each: each.stat().st_mtime):
            number = path.stem.rpartition("-")[2]
            if number.isdigit() and Path(f"/proc/{number}").exists():
                continue
            words = path.read_text("utf-8", "replace").strip()
            if words:
                found.append((datetime.fromtimestamp(path.stat().st_mtime), f"{path.stem}\n{words}"))
            path.unlink(missing_ok=True)
    return found
