"""One toy of every sort of kind, as a package that is installed beside Doppio would bring them."""
