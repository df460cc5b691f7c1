"""Pictures and pages of a part, without a display: for the client, and for whoever asks later what was done."""
