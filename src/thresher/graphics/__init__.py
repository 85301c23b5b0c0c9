"""Graphics cards under load: work whose every result is checked, on the card itself, by one process a card."""
