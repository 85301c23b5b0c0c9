"""The Bench station: vitals, machine map, run sheet, lanes, tape, suspects."""
