"""How closely the demo's artifact agrees with the recording of the training framework.

    python benchmarks/agreement.py

Prints gates A, B and C on the demo, and what each deliberately wrong inlet does to gate A.
"""

from demo_artifact import demo_artifact

from zygal.engines.artifact import RuntimeEngine
from zygal.errors import InletError
from zygal.evidence.match import match
from zygal.evidence.witness import read_witness
from zygal.inlet import read_inlet


def main():
    with demo_artifact() as artifact:
        folder = artifact.parent
        inlet = read_inlet(folder / "channel_marks.inlet.toml")
        engine, witness = RuntimeEngine(artifact), read_witness(folder / "channel_marks.witness")
        right = match(engine, witness, inlet, folder / "reference")
        print(f"{len(witness.images)} images, spread of the recorded scores {right.spread:.3f}")
        for gate in right.gates:
            verdict = "PASS" if gate.passes else "FAIL"
            print(f"{gate.name}  {gate.condition}: {gate.measured:.3g} (limit {gate.limit:g} {gate.unit}) {verdict}")
        for path in sorted((folder / "wrong").iterdir()):
            try:
                wrong = match(engine, witness, read_inlet(path), folder / "reference")
            except InletError as fault:
                print(f"{path.name}: refused: {fault}")
                continue
            gate = next(gate for gate in wrong.gates if gate.name == "A")
            print(
                f"{path.name}: A {gate.measured:.3g} grey levels, {'PASS' if gate.passes else 'FAIL'}; "
                f"cause: {'; and '.join(wrong.cause.findings) if wrong.cause else 'not found'}"
            )


if __name__ == "__main__":
    main()
