"""What libraries write of their own accord."""

from __future__ import annotations

import logging
import os
import warnings


def silence_libraries(verbose: bool) -> None:
    """Keeps libraries from writing warnings of their own between our sentences: what matters to the user is said by ours.

    Sets levels by name, so that no library is imported. With verbose everything is shown.
    """
    if verbose:
        return
    warnings.simplefilter("ignore")
    for name in ("absl", "jax", "matplotlib", "PIL", "tensorflow", "torch"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    os.environ.setdefault("TF_CPP_MIN_LOG_LEVEL", "3")
