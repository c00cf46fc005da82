"""`python -m common_bench.cli`: the command line without its script."""

import sys

from common_bench.cli.running import main

sys.exit(main())
