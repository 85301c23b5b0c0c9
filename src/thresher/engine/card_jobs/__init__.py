"""Work on graphics cards beside the engine: what it needs, and one load of one card."""
