"""Template tags of the stacks."""
