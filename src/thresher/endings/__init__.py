"""How a run or the machine ended when nobody ended it: what was left, what it says, what several have in common."""
