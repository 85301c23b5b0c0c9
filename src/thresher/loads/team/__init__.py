"""The engine's side of a load: a team of workers, their messages, their events."""
