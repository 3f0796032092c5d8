"""What runs: answers for the screen, and jobs with progress and cancel."""
