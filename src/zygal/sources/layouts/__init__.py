"""The algebra of channel orders, for every family of sources that counts channels last."""

from zygal.sources.layouts.views import LaidOut, View, is_batch

__all__ = ["LaidOut", "View", "is_batch"]
