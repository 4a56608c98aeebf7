"""What is answered from a context: kinds of answerers."""
