"""What a page is shown live: its session, still frames, playback, and what is drawn ahead."""
