"""Optimisers that suggest decisions: arrays in, arrays out. The kinds turn what they find into proposals."""
