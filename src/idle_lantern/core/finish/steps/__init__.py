"""The steps: a module for each. What lies here is found by ``registry``; nothing else names it."""
