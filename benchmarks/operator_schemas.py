"""Writes the signatures of the operators that the tables have, as the framework states them.

`python benchmarks/operator_schemas.py`, with the framework installed. Scripted archives give arguments by their places;
the signatures say what stands there.
"""

import sys
from pathlib import Path

import torch

from zygal.sources.pytorch.calls import HANDLERS
from zygal.sources.pytorch.translate import operator_name

TARGET = Path(__file__).parents[1] / "src/zygal/sources/pytorch/scripted/signatures.txt"


def lines():
    """The signatures of known operators, also in place, in the framework's order, which decides between overloads."""
    for schema in torch._C._jit_get_all_schemas():
        library, _, name = schema.name.partition("::")
        overload = schema.overload_name or "default"
        target = f"torch.ops.{library}.{name}.{overload}"
        text = str(schema)
        known = library == "aten" and overload != "out" and operator_name(target)[0] in HANDLERS
        if known and "Dimname" not in text and "(a!) out)" not in text:
            yield text


def main() -> int:
    TARGET.parent.mkdir(exist_ok=True)
    TARGET.write_text("".join(f"{line}\n" for line in lines()))
    print(f"{TARGET.name}: {len(TARGET.read_text().splitlines())} signatures of PyTorch {torch.__version__}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
