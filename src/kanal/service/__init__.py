"""Jobs that run by themselves: what is due, the process that starts it, its page, and who is told what."""
