"""Starts the stand-in service: python -m zygal.demo.endpoint ARTIFACT [--port 8000] [--fault NAME].

It answers on this machine alone, until Ctrl-C.
"""

from __future__ import annotations

import argparse
import sys

from zygal.errors import ZygalError


def main(arguments: list[str] | None = None) -> int:
    """Serves the demo's artifact until it is ended; returns the exit code."""
    from zygal.demo.service import FAULTS, StandIn

    listed = "\n".join(f"  {name:<10}{what}" for name, what in FAULTS.items())
    parser = argparse.ArgumentParser(
        prog="python -m zygal.demo.endpoint",
        description=__doc__.splitlines()[0],
        epilog=f"faults:\n{listed}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file or flatbuffer to serve")
    parser.add_argument("--port", type=int, default=8000, metavar="N", help="port (default: 8000; 0: any free one)")
    parser.add_argument("--name", metavar="NAME", help="name of the model (default: that of the file)")
    parser.add_argument(
        "--fault",
        action="append",
        default=[],
        choices=FAULTS,
        metavar="NAME",
        help="switch a fault on, may be repeated",
    )
    options = parser.parse_args(arguments)
    try:
        server = StandIn(options.artifact, options.name, options.port, tuple(options.fault))
    except ZygalError as fault:
        print(f"zygal: {fault}", file=sys.stderr)
        return 2
    except (OSError, OverflowError) as fault:
        print(f"zygal: port {options.port} cannot be used ({fault}); give another --port.", file=sys.stderr)
        return 2
    faults = f", with the faults {', '.join(options.fault)}" if options.fault else ""
    print(f"{options.artifact} is served at {server.url}{faults}; Ctrl-C ends it.", flush=True)
    try:
        server.serve_forever(0.2)
    except KeyboardInterrupt:
        return 130
    finally:
        server.server_close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
