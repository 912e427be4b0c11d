"""Work on other machines: an ordered map over the workers of a Dask cluster.

The engine moves work and watches machines; Zygal cuts the work into groups of blocks, sends artifacts to workers that
do not see them, compares the workers with this machine before anything is written, and puts the results in order.
"""
