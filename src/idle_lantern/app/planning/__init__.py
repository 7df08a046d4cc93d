"""The pages of the Plan stage: fields bound to the brief, what follows from them, small exact drawings."""
