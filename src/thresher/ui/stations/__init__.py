"""The stations of the window, one module each."""
