"""What branches of terms search by: a module a rule."""
