"""Classifiers that are served: a client of the open inference protocol, version 2, over HTTP."""
