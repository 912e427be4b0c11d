"""What Zygal keeps for a user between runs: one key, by which results that this user measured are known again."""

from __future__ import annotations

import hmac
import os
import secrets
import stat
from pathlib import Path

KEY_BYTES = 32
KEY_FILE = "key"


def state_folder() -> Path:
    """The user's folder for state (XDG base directories; LOCALAPPDATA on Windows)."""
    base = os.environ.get("XDG_STATE_HOME") or (os.environ.get("LOCALAPPDATA") if os.name == "nt" else None)
    return Path(base) / "zygal" if base and os.path.isabs(base) else Path.home() / ".local" / "state" / "zygal"


def own_key() -> bytes | None:
    """The user's key, made when it is first asked for, in a file that only the user can read. None where it cannot be
    made, or where others could have read or written it."""
    try:
        folder = state_folder()
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        try:
            handle = os.open(
                folder / KEY_FILE, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o600
            )
        except FileExistsError:
            return _read(folder / KEY_FILE)
        with os.fdopen(handle, "wb") as file:
            key = secrets.token_bytes(KEY_BYTES)
            file.write(key)
        return key
    except (OSError, RuntimeError, ValueError):  # No home, a read-only one, or a name that is none.
        return None


def _read(path: Path) -> bytes | None:
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0))
    with os.fdopen(handle, "rb") as file:
        state = os.fstat(file.fileno())
        if os.name == "posix" and (
            not stat.S_ISREG(state.st_mode) or state.st_mode & 0o077 or state.st_uid != os.geteuid()
        ):
            return None
        key = file.read(KEY_BYTES + 1)
    return key if len(key) == KEY_BYTES else None


def seal(key: bytes, content: bytes) -> str:
    """What only a holder of the key can put under a content (HMAC, RFC 2104, with SHA-256)."""
    return hmac.new(key, content, "sha256").hexdigest()


def is_sealed(key: bytes, content: bytes, found: str) -> bool:
    """Whether a content was sealed with the key."""
    return hmac.compare_digest(seal(key, content).encode(), found.encode("utf-8", "replace"))
