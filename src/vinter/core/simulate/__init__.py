"""Stand-ins that ship with Vinter: a simulated phone under a computed sky."""
