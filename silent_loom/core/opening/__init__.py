"""Opening what somebody else made: which file is which map, what is packed where, what is mended on the way."""
