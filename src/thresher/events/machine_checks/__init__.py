"""Machine checks: the registers, the lines that report them, and what they mean.

For the decoding of register values by the published manuals. Which fault code and which finding a check becomes is
said in `thresher.events.findings`; what to do about it in `thresher.codes`.
"""
