"""`python -m zygal` is the same program as `zygal`."""

import sys

from zygal.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
