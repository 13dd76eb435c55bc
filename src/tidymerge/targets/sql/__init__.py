"""What all SQL databases share as targets: everything but how one of them is spoken to."""

from tidymerge.targets.sql.target import SqlTarget

__all__ = ["SqlTarget"]
