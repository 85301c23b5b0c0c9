"""Questions to a person over the whole window, with what is shown, played, recorded or watched meanwhile."""
