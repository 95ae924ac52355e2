"""All that a process of a stack's pool needs, loaded: for the process that the pool's own are forked from."""

from vinter.core import warm
from vinter.core.frames.decoding import make_ready
from vinter.core.stack.ingest import quiet_worker

quiet_worker()
make_ready()
warm.stacking()
