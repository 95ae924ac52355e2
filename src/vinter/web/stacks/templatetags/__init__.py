"""Parts of pages that other rooms show."""
