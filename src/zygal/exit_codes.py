"""How the program ends: the one list of exit codes."""

PASS, GATE_FAILED, INVALID, SOME_UNREADABLE, UNDECIDED, INTERNAL, INTERRUPTED, TERMINATED = 0, 1, 2, 3, 4, 70, 130, 143
