"""Registration: features, pairs, the joint adjustment, levelling; and series onto a reference."""
