"""Who is at work: a name beside every edit, carried along by the context of what they asked for."""

from __future__ import annotations

from contextvars import ContextVar

WHO: ContextVar[str] = ContextVar("who", default="")
"""The name of whoever asked; empty where nobody has to say theirs."""
