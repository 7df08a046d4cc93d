"""Writers of finished pictures, one format a module."""
