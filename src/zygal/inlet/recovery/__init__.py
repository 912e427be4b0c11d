"""Working the inlet out from what training made of some images."""

from zygal.inlet.recovery.recover import Recovery, Undecided, recover_inlet

__all__ = ["Recovery", "Undecided", "recover_inlet"]
