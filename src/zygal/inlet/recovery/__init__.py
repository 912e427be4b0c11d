"""Working the inlet out from what training made of some images."""

from zygal.inlet.recovery.by_scores import ScoreRecovery, recover_by_scores
from zygal.inlet.recovery.groups import Group
from zygal.inlet.recovery.recover import Recovery, Undecided, recover_inlet
from zygal.inlet.recovery.residuals import ImageResidual

__all__ = [
    "Group",
    "ImageResidual",
    "Recovery",
    "ScoreRecovery",
    "Undecided",
    "recover_by_scores",
    "recover_inlet",
]
