"""All that a process of a stack's pool needs, loaded by being imported: for the process that the pool's own
are forked from."""

import os

from vinter.core.compiled import is_compiled
from vinter.core.frames.decoding import make_ready
from vinter.core.stack import aftermath, prepare  # noqa: F401
from vinter.core.stack.foreground import composition  # noqa: F401
from vinter.core.stack.ingest import quiet_worker
from vinter.core.stack.warming import stacking

quiet_worker()
make_ready()
# under a server that is not yet compiled two processes of its own do so, and a third would only delay them;
# from the shell there is nobody else
if is_compiled("stacking") or "VINTER_PARENT" not in os.environ:
    stacking()
