"""What the window knows and what goes on beside it; views listen to it."""
