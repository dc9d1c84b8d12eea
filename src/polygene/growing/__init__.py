"""Layers larger than memory: work cut into tasks, done here, in processes or on a cluster.

The result is the same to the byte as that of the whole at once: see `polygene.ops.part` for why.
"""
