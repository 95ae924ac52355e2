"""The demo photographer: her data, and the door to them where the demo is served."""
