"""What templates of trials say figures with."""
