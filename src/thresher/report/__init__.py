"""What is handed over: a report of a job in one HTML file, readings as CSV.

It prints what the job file holds and what the diagnosis says of it, and decides nothing itself.
"""
