"""The network at a glance: its parts in order, repeats folded, with shapes and where parameters and multiply-adds
are."""
