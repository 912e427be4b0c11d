"""Operators that are made of several of the graph's own: written once, for all families of sources.

Each takes the emitter, the values, and plain arguments; axes are those of the value as it lies in the graph.
"""
