"""What the stick shows around the window: the page before the first job, and the one when the window has closed."""
