"""Loaded by each worker that is started here: an interrupt of the terminal is for the command, which then ends its
workers."""

import signal

signal.signal(signal.SIGINT, signal.SIG_IGN)
