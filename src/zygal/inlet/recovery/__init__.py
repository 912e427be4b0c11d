"""Working the inlet out from what training made of some images."""

from zygal.inlet.recovery.by_scores import ScoreRecovery, recover_by_scores
from zygal.inlet.recovery.recover import Recovery, Undecided, recover_inlet

__all__ = ["Recovery", "ScoreRecovery", "Undecided", "recover_by_scores", "recover_inlet"]
