"""From evidence to suspects with probabilities and reasons: plain numerics on plain data.

No files (except the knowledge base that is handed in), no clock, no random state. Where the evidence comes
from is left to the engine.
"""
