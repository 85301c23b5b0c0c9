"""The parts of the Intake station: job strip, job form, parts, proposed sheets, readings, shelf."""
