//! Every key a sheet may hold, in one table: the reader obeys it, "did you mean" draws on it, and the
//! reference is tested against it.

/// What a key takes.
#[derive(Clone, Copy, Debug)]
pub enum Takes {
    /// Any text.
    Text,
    /// A whole number; written decimal, `0x` or `0b`.
    Integer,
    /// A number, whole or not.
    Number,
    /// `[low, high]`, two numbers.
    Range,
    /// `true` or `false`.
    Boolean,
    /// A code layout: byte slices, most significant first.
    Layout,
    /// Byte slices without a number form, such as `"b1..b5"`.
    Slices,
    /// A formula in C.
    Formula,
    /// A condition in C.
    Condition,
    /// Bytes in hex.
    Bytes,
    /// One of a few words.
    Word(&'static [&'static str]),
    /// A table with the keys of another [`Table`].
    Table(&'static Table),
    /// One such table, or a list of them.
    TableOrList(&'static Table),
    /// Names of the user's own, each with such a table.
    Named(&'static Table),
    /// Names of the user's own, each with a layout.
    NamedLayouts,
    /// Names of the user's own, each with a value that depends on the name.
    NamedValues,
}

/// One key: its name, what it takes, and what it is for.
#[derive(Clone, Copy, Debug)]
pub struct Key {
    /// The key as typed.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Whether its table is refused without it.
    pub required: bool,
    /// What it is for, in one sentence.
    pub doc: &'static str,
}

/// A kind of table: its title in the reference and its keys.
#[derive(Debug)]
pub struct Table {
    /// Its name in messages, such as `frame`.
    pub name: &'static str,
    /// Its keys, in the order of the reference. Empty where names are the user's own.
    pub keys: &'static [Key],
}

impl Table {
    /// The key of that name.
    pub fn key(&self, name: &str) -> Option<&'static Key> {
        self.keys.iter().find(|key| key.name == name)
    }
}

const fn must(name: &'static str, takes: Takes, doc: &'static str) -> Key {
    Key { name, takes, required: true, doc }
}

const fn may(name: &'static str, takes: Takes, doc: &'static str) -> Key {
    Key { name, takes, required: false, doc }
}

/// The sheet itself.
pub static SHEET: Table = Table {
    name: "sheet",
    keys: &[
        must("part", Takes::Text, "Name of the part, as printed on the datasheet."),
        may("title", Takes::Text, "What the part is, in a few words."),
        may("source", Takes::Text, "The datasheet and its revision."),
        may("i2c", Takes::Table(&I2C), "How the part is reached over I2C."),
        may("frame", Takes::Named(&FRAME), "Bytes read in one go, and the codes in them."),
        may("reading", Takes::Named(&READING), "A physical quantity and the formula that gives it."),
        may("example", Takes::TableOrList(&EXAMPLE), "A worked example from the datasheet; `check` runs it."),
    ],
};

/// `[i2c]`.
pub static I2C: Table = Table {
    name: "i2c",
    keys: &[
        must("address", Takes::Integer, "The 7-bit address, without the read/write bit."),
        may("strap", Takes::NamedValues, "Pins that choose the address: for each pin, level = address."),
    ],
};

/// `[frame.NAME]`.
pub static FRAME: Table = Table {
    name: "frame",
    keys: &[
        must("read", Takes::Integer, "Number of bytes in the frame, 1 to 4096."),
        may("source", Takes::Text, "Where the datasheet says so."),
        may("check", Takes::TableOrList(&CHECK), "Checks that the bytes must pass."),
        must("code", Takes::NamedLayouts, "The codes in the frame: for each name, its layout."),
        may("status", Takes::TableOrList(&STATUS), "What codes say about every reading of the frame."),
    ],
};

/// `check = { ... }` of a frame.
pub static CHECK: Table = Table {
    name: "check",
    keys: &[
        may("crc", Takes::Table(&CRC), "A cyclic redundancy check with these model parameters."),
        may("sum", Takes::Table(&SUM), "A sum of the bytes, modulo a power of two."),
        must("over", Takes::Slices, "The bytes that are covered, in the order they are fed."),
        must("in", Takes::Slices, "Where the check value stands, most significant byte first."),
    ],
};

/// `crc = { ... }`: the usual model parameters.
pub static CRC: Table = Table {
    name: "crc",
    keys: &[
        must("width", Takes::Integer, "Bits of the check value, 3 to 64."),
        must("poly", Takes::Integer, "Generator polynomial without its highest term, most significant bit first."),
        may("init", Takes::Integer, "Start value of the register; 0 where not given."),
        may("refin", Takes::Boolean, "Each byte is fed least significant bit first; false where not given."),
        may("refout", Takes::Boolean, "The register is bit-reversed at the end; as `refin` where not given."),
        may("xorout", Takes::Integer, "Value that the result is XORed with; 0 where not given."),
    ],
};

/// `sum = { ... }`.
pub static SUM: Table = Table {
    name: "sum",
    keys: &[
        must("width", Takes::Integer, "Bits that are kept of the sum, 8 or 16."),
        may("init", Takes::Integer, "Value that the sum starts from; 0 where not given."),
        may("then", Takes::Word(&["plain", "invert", "negate"]), "What is done to the sum before it is stored; `plain` where not given."),
    ],
};

/// `status = [{ ... }]` of a frame or a reading.
pub static STATUS: Table = Table {
    name: "status",
    keys: &[
        must("when", Takes::Condition, "A condition over the codes, in C."),
        must(
            "is",
            Takes::Word(&["alert", "saturated", "not ready", "invalid", "fault"]),
            "What holds then. `alert` and `saturated` keep the value; the others withhold it.",
        ),
        may("means", Takes::Text, "The datasheet's words for it."),
    ],
};

/// `[reading.NAME]`.
pub static READING: Table = Table {
    name: "reading",
    keys: &[
        must("unit", Takes::Text, "The unit, as a symbol: `°C`, `%`, `hPa`, `lx`."),
        must("formula", Takes::Formula, "How the codes become the quantity, in C."),
        may("range", Takes::Range, "The range that the datasheet states; outside it the status says so."),
        may("status", Takes::TableOrList(&STATUS), "What codes say about this reading."),
        may("source", Takes::Text, "Where the datasheet says so."),
    ],
};

/// `[[example]]`. Besides these keys, one key a frame: its bytes in hex.
pub static EXAMPLE: Table = Table {
    name: "example",
    keys: &[
        may("source", Takes::Text, "Where the datasheet has it."),
        must("gives", Takes::NamedValues, "For each reading, its value with the unit, or its status."),
    ],
};
