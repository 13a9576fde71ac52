//! The names of all warnings, which a sheet may switch off.

/// Every warning: its name, and when it comes. A sheet switches one off with `allow = ["name"]`.
pub const WARNINGS: &[(&str, &str)] = &[
    ("reserved-address", "An I2C address is below 0x08 or above 0x77: reserved, or an 8-bit form."),
    ("sign-missing", "A reading's stated range is negative, but the code of two or more bytes has no sign, so that it cannot be."),
    ("byte-order-differs", "A code of several bytes has another byte order than the part's others."),
    ("formula-repeated", "Two readings of different units have the same formula: a pasted constant."),
    ("reset-sets-reserved", "A reset value has other bits in a reserved place than must be written there."),
    ("bits-unaccounted", "Bits of a register belong to no field and are not reserved."),
    ("same-address", "Two registers have one address, are not in different banks, and both can be read, or both written."),
    ("gap", "A frame's `A..B` has addresses in between of which the sheet says nothing, and so is read in several transfers."),
    ("never-holds", "A condition that a routine polls for or expects cannot hold, whatever is read: the routine always fails."),
    ("command-twice", "A step of a routine sends what the frame that is read next sends itself."),
    ("no-command", "A frame is read over SPI without a command, by a part with registers: its first byte is a register's address there."),
    ("never-used", "A code, parameter, table or shared value that no formula, condition or example uses."),
    ("no-example", "The sheet has readings but no worked example."),
    ("not-checked", "A frame has a byte that no code uses and no check: a CRC that is not checked?"),
    ("range-never-reached", "No code gives a value within the stated range."),
    ("integer-division", "A division of integers drops the fraction, and the reading is then scaled as if it did not."),
    ("sign-lost", "A comparison or division mixes signed and unsigned, so that a negative number becomes a large one."),
];
