"""What a run says about the power supply: rails at idle and under load, droop on edges, load line. Plain numerics."""
