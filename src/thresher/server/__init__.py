"""The engine behind its Unix socket: connections, and which command does what."""
