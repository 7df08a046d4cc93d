"""All computation: no Qt, no settings, no printing."""
