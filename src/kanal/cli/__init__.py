"""The command line: parses arguments, calls the library and prints."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import sys
import threading


def main() -> None:
    """Run the command line and exit with its status; the user never sees a traceback."""
    # Much is made that stays for good: to look again and again for what nothing refers to takes a tenth of the start.
    gc.set_threshold(1_000_000, 20, 50)
    # NumPy would start threads for matrices, and pydantic look through all packages for plugins; there are none here.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    from kanal.cli.entry import run_app

    status = run_app(sys.argv[1:])
    # Not by way of the interpreter's end, which would wait for what could not be broken off.
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    logging.shutdown()
    if any(thread.name.startswith("kanal-") and thread.is_alive() for thread in threading.enumerate()):
        os._exit(status)
    gc.freeze()  # the end of the process frees all at once, without looking for what refers to what
    sys.exit(status)
