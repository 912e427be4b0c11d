"""From a source to an artifact, and the freeing of fixed batches."""
