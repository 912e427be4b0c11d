"""Zygal converts a trained image classifier to a portable artifact and proves that both agree."""

__version__ = "0.1.0"


def __getattr__(name: str):
    # What training code needs of this package, without anything heavier being imported first.
    if name == "Witness":
        from zygal.evidence.witness import Witness

        return Witness
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
