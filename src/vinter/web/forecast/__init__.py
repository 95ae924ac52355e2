"""The forecast: what a service or a file says of the nights ahead."""
