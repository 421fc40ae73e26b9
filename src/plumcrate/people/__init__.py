"""People and machines: who they are, what they may do, how they come in, and what they did."""
