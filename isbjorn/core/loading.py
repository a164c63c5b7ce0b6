"""Imported first where processes are forked from; `preload` ends what this begins."""

from isbjorn.core.runtime.loading import begin

begin()
