"""What the system that is installed on a machine remembers of it: event logs, crash dumps, kernel logs; read only."""
