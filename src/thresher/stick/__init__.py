"""What only runs where the program was started from its own stick: where jobs are kept, and what may be written."""
