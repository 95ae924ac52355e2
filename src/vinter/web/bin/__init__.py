"""What was deleted and can be put back for a week."""
