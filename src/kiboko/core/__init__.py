"""The job itself: sets of traffic, filters, routes, the walk, the comparison. No files, no printing."""
