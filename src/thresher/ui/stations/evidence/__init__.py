"""The parts of the Evidence station: signatures over time, their list, and the decode pane."""
