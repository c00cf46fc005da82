"""The command line. Words in; one thing done; plain sentences, or JSON where the output is data, out.

One module a command, its arguments beside it. Slow imports wait until a command needs them, so that the window is there
at once.
"""

from common_bench.cli.running import main

__all__ = ["main"]
