"""The finished picture looked over: what a practised eye would object to, each with its figure, its reason and what to do."""
