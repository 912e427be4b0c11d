"""Bundles: all that an application team needs of an artifact, with runners that check themselves."""
