"""Working through the planned frames: devices, guide and log."""
