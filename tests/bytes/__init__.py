"""Files written byte by byte from the standards, each with the section that it follows: no reader or writer of the
program has a part in them."""
