//! Every key a sheet may hold, in one table: the reader obeys it, "did you mean" draws on it, the JSON Schema
//! is made from it, and the reference is tested against it.

/// What a key takes.
#[derive(Clone, Copy, Debug)]
pub enum Takes {
    /// Any text.
    Text,
    /// A whole number; written decimal, `0x` or `0b`.
    Integer,
    /// A number, whole or not.
    Number,
    /// A number, or the name of one of the values beside it.
    NumberOrName,
    /// A number, or a formula in C.
    NumberOrFormula,
    /// `[low, high]`, two numbers.
    Range,
    /// `[low, high]`, each a number or a formula.
    RangeOrFormulas,
    /// `[[x, y], ...]`.
    Points,
    /// `true` or `false`.
    Boolean,
    /// A code layout: slices, most significant first.
    Layout,
    /// Such a layout, or a list of them: one for each element of an array.
    LayoutOrList,
    /// Slices without a number form, such as `"b1..b5"`.
    Slices,
    /// What a check covers: slices, constants, address bytes.
    Cover,
    /// Bits of a register, such as `"[7:4]"`.
    Bits,
    /// Such bits, or a list of them: one for each element of an array.
    BitsOrList,
    /// A 7-bit address, or text such as `"0x58 8-bit"`.
    Address,
    /// A Modbus address, or a run of them, as printed.
    ModbusAddress,
    /// A formula in C.
    Formula,
    /// A condition in C.
    Condition,
    /// A time, such as `"2 ms"`.
    Time,
    /// A time, or a formula that gives milliseconds.
    TimeOrFormula,
    /// A list of bytes; one that follows from settings is a formula.
    Bytes,
    /// Such a list, or names of registers.
    BytesOrRegisters,
    /// A list of names.
    Names,
    /// Names of registers, with blanks or `..` between.
    Registers,
    /// One of a few words.
    Word(&'static [&'static str]),
    /// A table with the keys of another [`KeyTable`].
    Table(&'static KeyTable),
    /// One such table, or a list of them.
    TableOrList(&'static KeyTable),
    /// The same, or the name of another that has such a list.
    TableOrListOrName(&'static KeyTable),
    /// A table, or the name of a usual CRC model.
    TableOrModel(&'static KeyTable),
    /// Names of the user's own, each with such a table.
    Named(&'static KeyTable),
    /// Names of the user's own, each with a list of such tables.
    NamedLists(&'static KeyTable),
    /// Names of the user's own, each with a layout, or with such a table.
    NamedLayouts(&'static KeyTable),
    /// Names of the user's own, each with a value that depends on the name.
    NamedValues,
}

impl Takes {
    /// The kind of table that it takes, if it takes one.
    pub fn table(self) -> Option<&'static KeyTable> {
        match self {
            Takes::Table(table)
            | Takes::TableOrList(table)
            | Takes::TableOrListOrName(table)
            | Takes::TableOrModel(table)
            | Takes::Named(table)
            | Takes::NamedLists(table)
            | Takes::NamedLayouts(table) => Some(table),
            _ => None,
        }
    }
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
pub struct KeyTable {
    /// Its name in messages, such as `frame`.
    pub name: &'static str,
    /// Its keys, in the order of the reference.
    pub keys: &'static [Key],
    /// Names of the user's own that may stand beside the keys, in words; empty where there are none.
    pub also: &'static str,
}

impl KeyTable {
    /// This kind of table and all that stand in it, each once, from the outside in.
    pub fn all_within(&'static self) -> Vec<&'static KeyTable> {
        let mut found = vec![self];
        let mut at = 0;
        while let Some(table) = found.get(at).copied() {
            found.extend(table.keys.iter().filter_map(|key| key.takes.table()).filter(|inner| !std::ptr::eq(*inner, table)));
            let mut seen: Vec<&str> = Vec::new();
            found.retain(|table| {
                !seen.contains(&table.name) && {
                    seen.push(table.name);
                    true
                }
            });
            at += 1;
        }
        found
    }

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

const SOURCE: Key = may("source", Takes::Text, "Where the datasheet says so.");
const MEANS: Key = may("means", Takes::Text, "The datasheet's words for it.");

/// The sheet itself.
pub static SHEET: KeyTable = KeyTable {
    name: "sheet",
    keys: &[
        must("part", Takes::Text, "Name of the part, as printed on the datasheet."),
        may("title", Takes::Text, "What the part is, in a few words."),
        may("source", Takes::Text, "The datasheet and its revision."),
        may("allow", Takes::Names, "Warnings of `check` that are switched off for this sheet."),
        may("i2c", Takes::Table(&I2C), "How the part is reached over I2C or SMBus."),
        may("spi", Takes::Table(&SPI), "How the part is reached over SPI."),
        may("modbus", Takes::Table(&MODBUS), "How the part is reached over Modbus."),
        may("register", Takes::Named(&REGISTER), "A register, its fields and its reset value."),
        may("field", Takes::Named(&FIELD), "A field that is put together from bits of several registers."),
        may("frame", Takes::Named(&FRAME), "Bytes read in one go, and the codes in them."),
        may("reading", Takes::Named(&READING), "A physical quantity and the formula that gives it."),
        may("shared", Takes::Named(&SHARED), "A value that several readings need, and that is none itself."),
        may(
            "derived",
            Takes::Named(&DERIVED),
            "A quantity that follows from readings, and from those at the frame before: a dew point, a dose.",
        ),
        may("parameter", Takes::Named(&PARAMETER), "A number that the user supplies."),
        may("quantity", Takes::Named(&QUANTITY), "A physical value that fields hold: a threshold, a hysteresis."),
        may("routine", Takes::NamedLists(&STEP), "What is done with the part, step by step: wake it, measure, read its calibration."),
        may("table", Takes::Named(&TABLE), "A curve by its points; a formula calls it: `CURVE(x)`."),
        may("example", Takes::TableOrList(&EXAMPLE), "A worked example from the datasheet; `check` runs it."),
        may("variant", Takes::Named(&VARIANT), "Another part of the same datasheet: what differs, under the same keys."),
    ],
    also: "",
};

/// `[i2c]`.
pub static I2C: KeyTable = KeyTable {
    name: "i2c",
    keys: &[
        must("address", Takes::Address, "The 7-bit address; an 8-bit form, with the read/write bit, is typed `\"0x58 8-bit\"`."),
        may("strap", Takes::NamedValues, "Pins that choose the address: for each pin, level = address. Without it the address is fixed."),
        may(
            "pointer",
            Takes::Integer,
            "Bits of the register address or command that is sent first: 8 or 16; 0 for a part that just answers. Default: 8.",
        ),
        may("restart", Takes::Boolean, "Between pointer and data: repeated start, or with `false` stop and start. Default: `true`."),
        may("increment", Takes::Integer, "Bits that are set in the register address for auto-increment; default: none."),
        may(
            "auto_increment",
            Takes::Boolean,
            "Whether the register address moves on from register to register; with `false` each is read in a transfer of its own. Default: `true`.",
        ),
        may("pec", Takes::Boolean, "Register writes end with SMBus's packet error code (CRC-8/SMBUS over the address byte too)."),
        may("max_khz", Takes::Integer, "The fastest clock, in kHz; default: none is stated."),
    ],
    also: "",
};

/// `[spi]`.
pub static SPI: KeyTable = KeyTable {
    name: "spi",
    keys: &[
        must("mode", Takes::Integer, "Clock mode, 0 to 3."),
        may("bit_order", Takes::Word(&["msb first", "lsb first"]), "Which bit of a byte goes first; default: `msb first`."),
        may(
            "pointer",
            Takes::Integer,
            "Bits of the address that is sent first: 8 or 16; 0 for a part that is only clocked out. Default: 8.",
        ),
        may("shift", Takes::Integer, "Places that the address is shifted to the left; default: 0."),
        may("read", Takes::Integer, "Bits that are set in the address byte to read."),
        may("write", Takes::Integer, "Bits that are set in the address byte to write."),
        may("increment", Takes::Integer, "Bits that are set for auto-increment."),
        may("auto_increment", Takes::Boolean, "As for I2C."),
        may("dummy", Takes::Integer, "Bytes clocked between the address and the first byte of data; default: 0."),
        may("late", Takes::Boolean, "The answer comes in the next transfer."),
        may("max_khz", Takes::Integer, "The fastest clock, in kHz; default: none is stated."),
    ],
    also: "",
};

/// `[modbus]`.
pub static MODBUS: KeyTable = KeyTable {
    name: "modbus",
    keys: &[
        may("unit", Takes::Integer, "Unit id, 1 to 247, as delivered."),
        must(
            "numbering",
            Takes::Word(&["from 0", "from 1", "40001", "400001"]),
            "How the datasheet prints addresses: as on the wire, from 1, or with the table's digit in front and five or six digits.",
        ),
        may("baud", Takes::Integer, "Bits a second, as delivered."),
        may("parity", Takes::Word(&["none", "even", "odd"]), "Parity, as delivered."),
        may("stop", Takes::Integer, "Stop bits, 1 or 2."),
        may("unit_field", Takes::Text, "The field that holds the unit id: where it is set, the part answers as that unit from then on."),
        may("baud_field", Takes::Text, "The field that sets the speed of the line, with a column `baud`, or the number itself."),
    ],
    also: "",
};

const ACCESS: Takes = Takes::Word(&[
    "read-write",
    "read-only",
    "write-only",
    "write-1-to-clear",
    "clear-on-read",
    "self-clearing",
    "set-until-reset",
    "reserved",
]);

/// `[register.NAME]`.
pub static REGISTER: KeyTable = KeyTable {
    name: "register",
    keys: &[
        must("at", Takes::Integer, "Its address; of a Modbus part that of a holding register, as printed."),
        may("width", Takes::Integer, "Its bits: 8 to 64, whole bytes; default: 8."),
        may("order", Takes::Word(&["high first", "low first"]), "Which byte of it comes first; default: `high first`."),
        may("access", ACCESS, "What can be done to it; default: `read-write`."),
        may("reset", Takes::Integer, "Its value after a reset."),
        may("bank", Takes::NamedValues, "It is reached only while these fields have these values."),
        may("while", Takes::NamedValues, "It may only be written while these fields have these values."),
        may("count", Takes::Integer, "An array: this many of them, `NAME_0` and on; their fields are named likewise."),
        may(
            "names",
            Takes::Names,
            "An array, in place of `count`: for each of them what stands behind its name, such as `[\"x\", \"y\", \"z\"]`.",
        ),
        may(
            "every",
            Takes::Integer,
            "For an array, the addresses from one to the next; default: as many as it has bytes, over Modbus words.",
        ),
        may("field", Takes::Named(&FIELD), "Its fields."),
        may("reserved", Takes::TableOrList(&RESERVED), "Bits that are nobody's."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `reserved = { ... }` of a register.
pub static RESERVED: KeyTable = KeyTable {
    name: "reserved",
    keys: &[
        must("bits", Takes::Bits, "The bits."),
        may("write", Takes::Integer, "What must be written there; default: what stands there after a reset."),
    ],
    also: "",
};

/// `[register.NAME.field.NAME]` and `[field.NAME]`.
pub static FIELD: KeyTable = KeyTable {
    name: "field",
    keys: &[
        must(
            "bits",
            Takes::BitsOrList,
            "Its bits, most significant first: `\"[7:4]\"`; of several registers `\"HIGH[3:0] LOW\"`; of other fields, which keep their names, `\"FAST QUIET\"`. A list is an array of fields that differ in nothing else, `NAME_0` and on.",
        ),
        may("names", Takes::Names, "Of an array of fields: what stands behind its name for each, such as `[\"x\", \"y\", \"z\"]`."),
        may("values", Takes::TableOrListOrName(&VALUE), "The datasheet's table of its values; or the name of a field that has the same."),
        may("access", ACCESS, "What can be done to it; default: as its register."),
        may(
            "computed",
            Takes::Formula,
            "Its code follows from parameters and other fields: a calibration word from a bore. A real is rounded to the nearest code, halves away from zero; `(int32_t)(…)` cuts it towards zero instead.",
        ),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// A row of `values` of a field.
pub static VALUE: KeyTable = KeyTable {
    name: "value",
    keys: &[must("code", Takes::Integer, "The field's code."), may("name", Takes::Text, "The value's name."), MEANS],
    also: "columns of the datasheet's table, numbers: `gain = 4`, `ms = 14.0`. A formula has them as `FIELD.gain`",
};

/// `[frame.NAME]`.
pub static FRAME: KeyTable = KeyTable {
    name: "frame",
    keys: &[
        may("read", Takes::Integer, "Number of bytes, 1 to 4096; of a frame without `registers`, `transfers` or a Modbus table."),
        may("length", Takes::Formula, "How many of these bytes count, where an earlier code says so: a FIFO that was not full."),
        may(
            "command",
            Takes::Bytes,
            "Bytes that are sent before reading, such as a command; of those that follow from settings, the formula: `[0x4C, \"RATE << 3\"]`.",
        ),
        may("wait", Takes::TimeOrFormula, "The time between the command and the read; a formula gives milliseconds."),
        may("keep", Takes::Boolean, "Read once and kept: calibration words. Other frames' readings wait for it."),
        may(
            "blank",
            Takes::Word(&["refused", "suspect", "good"]),
            "A frame of only zeros or only ones, as if no part answered: refused, decoded with a warning, or a measurement. Default: `refused` with `keep`; `good` with `check`, over Modbus, or for one byte; otherwise `suspect`.",
        ),
        may(
            "registers",
            Takes::Registers,
            "The registers it holds, in one text: `\"STATUS..DATA_L\"`, or their names with blanks between; those that do not follow one another are read in transfers of their own.",
        ),
        may("transfers", Takes::TableOrList(&TRANSFER), "Several transfers whose answers are put one behind the other."),
        may("holding", Takes::ModbusAddress, "Modbus holding registers (function 3), as printed: `\"40011..40014\"`."),
        may("input", Takes::ModbusAddress, "Modbus input registers (function 4)."),
        may("coils", Takes::ModbusAddress, "Modbus coils (function 1)."),
        may("discrete", Takes::ModbusAddress, "Modbus discrete inputs (function 2)."),
        may("check", Takes::TableOrList(&CHECK), "Checks that the bytes must pass."),
        may(
            "code",
            Takes::NamedLayouts(&CODE),
            "The codes in the frame: for each name, its layout. The fields of its registers are codes too.",
        ),
        may("reserved", Takes::Slices, "Reserved bits; `check` warns about other unnamed bits."),
        may("status", Takes::TableOrList(&STATUS), "What codes say about every reading of the frame."),
        may(
            "while",
            Takes::NamedValues,
            "Its bytes are a measurement only while these fields have these values: the part is awake, or in a mode. Otherwise its readings are invalid.",
        ),
        may(
            "otherwise",
            Takes::Word(&["last value", "reset value", "no answer"]),
            "With `while`: the result of a read if the fields have other values; default: `last value`.",
        ),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// A code that says more than its layout.
pub static CODE: KeyTable = KeyTable {
    name: "code",
    keys: &[
        must("layout", Takes::LayoutOrList, "Where its bits stand and how they are read; a list of layouts is an array."),
        may(
            "names",
            Takes::Names,
            "Of an array: what stands behind its name for each element, in place of `0`, `1` and on: `[\"x\", \"y\", \"z\"]`.",
        ),
        may(
            "range",
            Takes::Range,
            "The codes that the datasheet allows; outside it the code stands for nothing, and what uses it is at fault.",
        ),
        MEANS,
    ],
    also: "",
};

/// A transfer of a frame.
pub static TRANSFER: KeyTable = KeyTable {
    name: "transfer",
    keys: &[
        may("command", Takes::Bytes, "Bytes that are sent first."),
        may("wait", Takes::TimeOrFormula, "The time between the command and the read."),
        must("read", Takes::Integer, "Number of bytes that are read."),
    ],
    also: "",
};

/// `check = { ... }` of a frame.
pub static CHECK: KeyTable = KeyTable {
    name: "check",
    keys: &[
        may("crc", Takes::TableOrModel(&CRC), "A cyclic redundancy check: the model's parameters, or the name of a usual one."),
        may("sum", Takes::Table(&SUM), "A sum of the bytes."),
        may("xor", Takes::Integer, "All bytes XORed, from this start value."),
        may("parity", Takes::Word(&["even", "odd"]), "A bit that makes the number of ones even or odd."),
        must(
            "over",
            Takes::Cover,
            "What is covered, in the order it is fed: slices, `addr:w` and `addr:r` for the address bytes, constants such as `0x10` and `0b0000`.",
        ),
        must("in", Takes::Slices, "Where the check value stands, most significant first."),
    ],
    also: "",
};

/// `crc = { ... }`: the usual model parameters.
pub static CRC: KeyTable = KeyTable {
    name: "crc",
    keys: &[
        must("width", Takes::Integer, "Bits of the check value, 3 to 64."),
        must("poly", Takes::Integer, "Generator polynomial without its highest term, most significant bit first."),
        may("init", Takes::Integer, "Start value of the register; default: 0."),
        may("refin", Takes::Boolean, "Each byte is fed least significant bit first; default: false."),
        may("refout", Takes::Boolean, "The register is bit-reversed at the end; default: as `refin`."),
        may("xorout", Takes::Integer, "Value that the result is XORed with; default: 0."),
    ],
    also: "",
};

/// `sum = { ... }`.
pub static SUM: KeyTable = KeyTable {
    name: "sum",
    keys: &[
        must("width", Takes::Integer, "Bits that are kept of the sum."),
        may("init", Takes::Integer, "Value that the sum starts from; default: 0."),
        may("modulo", Takes::Integer, "The sum is the remainder by this number."),
        may("then", Takes::Word(&["plain", "invert", "negate"]), "What is done to the sum before it is stored; default: `plain`."),
    ],
    also: "",
};

/// `status = [{ ... }]` of a frame or a reading.
pub static STATUS: KeyTable = KeyTable {
    name: "status",
    keys: &[
        must("when", Takes::Condition, "A condition over the codes, in C."),
        must(
            "is",
            Takes::Word(&["alert", "saturated", "not ready", "invalid", "fault"]),
            "What holds then. `alert` and `saturated` keep the value; the others withhold it.",
        ),
        MEANS,
    ],
    also: "",
};

/// `[reading.NAME]`.
pub static READING: KeyTable = KeyTable {
    name: "reading",
    keys: &[
        must("unit", Takes::Text, "The unit, as a symbol: `°C`, `%`, `hPa`, `lx`."),
        must("formula", Takes::Formula, "How the codes become the quantity, in C."),
        may(
            "range",
            Takes::RangeOrFormulas,
            "The range in which the datasheet lets the reading be believed; outside it the status says so. What follows from settings is a formula: `[\"-SPAN.full\", \"SPAN.full\"]`.",
        ),
        may("decimals", Takes::Integer, "Decimals to show, 0 to 9, where those that its steps need are not wanted."),
        may("status", Takes::TableOrList(&STATUS), "What codes say about this reading."),
        may(
            "while",
            Takes::NamedValues,
            "The codes have this meaning only while these fields have these values; otherwise the reading is invalid.",
        ),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[shared.NAME]`.
pub static SHARED: KeyTable =
    KeyTable { name: "shared", keys: &[must("formula", Takes::Formula, "How it is computed, in C."), MEANS, SOURCE], also: "" };

/// `[derived.NAME]`.
pub static DERIVED: KeyTable = KeyTable {
    name: "derived",
    keys: &[
        must("unit", Takes::Text, "The unit, as a symbol: `°C`, `lx·h`."),
        must(
            "formula",
            Takes::Formula,
            "How it follows from readings, in C: their names stand for their values. `before.NAME` is a reading, or a derived quantity, at the frame before, `elapsed` the seconds since then.",
        ),
        may(
            "start",
            Takes::NumberOrFormula,
            "What a quantity begins with that goes on from itself, such as a sum: `0`; or a formula over the readings.",
        ),
        may(
            "gap",
            Takes::Time,
            "With `before` or `elapsed`: the longest time between two frames that belong together, such as `\"15 min\"`. After a longer one, and where the clock went back, it begins anew; a sum goes on from what it had.",
        ),
        may("decimals", Takes::Integer, "Decimals to show, 0 to 9; otherwise six digits."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[parameter.NAME]`.
pub static PARAMETER: KeyTable = KeyTable {
    name: "parameter",
    keys: &[
        must("default", Takes::NumberOrName, "Its value where the user gives none; of one with `values`, a code or a name."),
        may("unit", Takes::Text, "Its unit."),
        may("range", Takes::Range, "The values that are accepted."),
        may(
            "values",
            Takes::TableOrListOrName(&VALUE),
            "A setting that no register holds, chosen by a command or a pin: the datasheet's table of its values. Otherwise it is as a field.",
        ),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[table.NAME]`.
pub static TABLE: KeyTable = KeyTable {
    name: "table",
    keys: &[
        must("points", Takes::Points, "`[[x, y], ...]`, x rising; between them the line is straight."),
        must("outside", Takes::Word(&["hold", "extend", "fault"]), "Beyond the ends: the end's value, the last line extended, or a fault."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[quantity.NAME]`.
pub static QUANTITY: KeyTable = KeyTable {
    name: "quantity",
    keys: &[
        must("unit", Takes::Text, "Its unit."),
        may("formula", Takes::Formula, "Its value from the fields that hold it; it may use parameters and other quantities too."),
        may("reading", Takes::Text, "In place of `formula`: the reading whose formula it goes through."),
        may("code", Takes::Formula, "With `reading`: what takes the place of that reading's code, from the fields that hold it."),
        may("difference", Takes::Boolean, "It is a difference, such as a hysteresis: 1 K is 1 °C then."),
        may("moves", Takes::Names, "The fields that may be changed to set it; default: those that the formula uses."),
        may("not_below", Takes::Text, "Another quantity that it must not be below."),
        may("alert", Takes::Word(&["above", "below"]), "The reading raises the part's alert above it, or below it."),
        may("flag", Takes::Condition, "With `alert`: the part's own flag for this threshold. It holds while the alert is raised by it."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[[routine.NAME]]`: a step.
pub static STEP: KeyTable = KeyTable {
    name: "step",
    keys: &[
        may(
            "write",
            Takes::BytesOrRegisters,
            "Send these bytes; over Modbus, a request's function and data, around which unit and CRC are put. Over I2C, `[]` sends the address alone. Or the names of registers: they are written as their fields are by then, those with `computed` computed anew.",
        ),
        may("set", Takes::NamedValues, "Give these fields these values, and write their registers."),
        may("verify", Takes::Boolean, "With `set`: read the registers back and compare."),
        may("read", Takes::Registers, "Read a frame, or registers, by name."),
        may("wait", Takes::TimeOrFormula, "Wait this long; a formula gives milliseconds."),
        may("tolerance", Takes::Number, "With `wait`: the datasheet's tolerance in percent; the wait is that much longer."),
        may("poll", Takes::Condition, "Read what the condition needs, again and again, until it holds."),
        may("line", Takes::Word(&["high", "low"]), "Wait until the data-ready line has this level."),
        may("every", Takes::TimeOrFormula, "With `poll` or `retry`: the time from one to the next; default: 1 ms."),
        may("within", Takes::TimeOrFormula, "With `poll` or `line`: the longest time; then the routine fails."),
        may(
            "expect",
            Takes::Condition,
            "Read what the condition needs, once; where it does not hold, the routine fails: an identity. A condition of parameters alone reads nothing.",
        ),
        may("do", Takes::Text, "Another routine."),
        may("when", Takes::Condition, "Do the step only where this holds of what was last read or set."),
        may("repeat", Takes::Integer, "Do the step this many times, 2 to 1000."),
        may(
            "may_nak",
            Takes::Boolean,
            "With `write`: a missing acknowledgement is not an error, as of a part that wakes up at its address. Default: `false`.",
        ),
        may("retry", Takes::Integer, "Where the part does not acknowledge, try again this many times, 1 to 1000."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[[example]]`.
pub static EXAMPLE: KeyTable = KeyTable {
    name: "example",
    keys: &[
        may("source", Takes::Text, "Where the datasheet has it."),
        may(
            "set",
            Takes::NamedValues,
            "Fields that do not have their reset values: for each, the value's name or its code. Also parameters and quantities, with their units.",
        ),
        may(
            "gives",
            Takes::NamedValues,
            "For each reading or quantity, its value with the unit, or its status; for each code, its number or text.",
        ),
        may("every", Takes::Time, "With several frames one after the other: the time from one to the next, for what is derived over time."),
        may("writes", Takes::NamedValues, "What `set` comes to: for each register, the value that is written to it."),
        may(
            "sends",
            Takes::Names,
            "What `set` comes to on the first bus: for each write, in order, its bytes in hex as `configure` shows them.",
        ),
        may(
            "refused",
            Takes::Word(&["check failed", "too short", "too long", "blank", "exception", "foreign"]),
            "The frame is refused, for this cause.",
        ),
    ],
    also: "one key a frame, with its name: its bytes in hex, or a list of such, one frame after the other",
};

/// `[variant.NAME]`: any keys of the sheet, put over it.
pub static VARIANT: KeyTable = KeyTable {
    name: "variant",
    keys: &[],
    also: "any key of the sheet: it is put over, or beside, what the sheet has; a list, such as `example` or a table of values, takes the place of the sheet's as a whole",
};
