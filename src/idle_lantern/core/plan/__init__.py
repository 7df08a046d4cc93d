"""From a wanted field and a rig to the frames that cover it."""
