"""What takes how much of the disk, and how it is given back."""
