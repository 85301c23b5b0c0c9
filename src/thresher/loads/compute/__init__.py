"""The processor loads, one file each."""
