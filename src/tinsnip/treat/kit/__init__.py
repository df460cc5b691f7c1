"""What the families of treatments share."""
