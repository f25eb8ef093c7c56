"""Package databases and packages of installed systems."""
