"""The parts of the Parts station: suspects with reasons, the decision, the book of trials."""
