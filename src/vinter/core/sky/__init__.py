"""Where things stand in the sky and how bright it is there. Equations: docs/models.md."""
