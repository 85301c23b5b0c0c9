"""Readings to and from other programs: JSON Lines and Parquet out, CSV logs from elsewhere in."""
