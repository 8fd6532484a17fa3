"""Plants, solved last: limbs turned so that what is planted stays where it is."""
