"""What the engine and those who use it say to each other: typed commands, events and answers as plain data.

It stands below the engine, so that the window can use it without loading the engine. What a command does is left to
`thresher.server`, what an event means to whoever receives it.
"""
