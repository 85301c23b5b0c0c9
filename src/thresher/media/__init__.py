"""Sound and camera pictures as numbers: tones to play, what recordings and frames show. No devices, no Qt."""
