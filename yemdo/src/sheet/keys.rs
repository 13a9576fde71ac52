//! All keys of a sheet, in one table for the reader, "did you mean", the JSON Schema and the reference.

/// Value of a key.
#[derive(Clone, Copy, Debug)]
pub enum Takes {
    /// Any text.
    Text,
    /// An integer: decimal, `0x` or `0b`.
    Integer,
    /// A number.
    Number,
    /// A number, or the name of one of the table's values.
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
    /// A layout, or one for each element of an array.
    LayoutOrList,
    /// Slices without a number form, such as `"b1..b5"`.
    Slices,
    /// Bytes covered by a check: slices, constants, address bytes.
    Cover,
    /// Bits of a register, such as `"[7:4]"`.
    Bits,
    /// Bits, or a list of them for the elements of an array.
    BitsOrList,
    /// A 7-bit address, or text such as `"0x58 8-bit"`.
    Address,
    /// A Modbus address or a range of them, as printed.
    ModbusAddress,
    /// A formula in C.
    Formula,
    /// A condition in C.
    Condition,
    /// A time, such as `"2 ms"`.
    Time,
    /// A time, or a formula for milliseconds.
    TimeOrFormula,
    /// A list of bytes, or formulas for them.
    Bytes,
    /// Bytes, or names of registers.
    BytesOrRegisters,
    /// A list of names.
    Names,
    /// Names of registers, separated by blanks or `..`.
    Registers,
    /// One of several words.
    Word(&'static [&'static str]),
    /// A table with the keys of another [`KeyTable`].
    Table(&'static KeyTable),
    /// A table, or a list of tables.
    TableOrList(&'static KeyTable),
    /// A table, a list of tables, or the name of a field with such a list.
    TableOrListOrName(&'static KeyTable),
    /// A table, or the name of a CRC model.
    TableOrModel(&'static KeyTable),
    /// User-defined names, each with a table.
    Named(&'static KeyTable),
    /// User-defined names, each with a list of tables.
    NamedLists(&'static KeyTable),
    /// User-defined names, each with a layout or a table.
    NamedLayouts(&'static KeyTable),
    /// User-defined names, each with a value that depends on the name.
    NamedValues,
}

impl Takes {
    /// Kind of the key's table; `None` for other values.
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

/// A key of a table.
#[derive(Clone, Copy, Debug)]
pub struct Key {
    /// The key as typed.
    pub name: &'static str,
    /// Value.
    pub takes: Takes,
    /// True if its table is invalid without it.
    pub required: bool,
    /// Purpose, in one sentence.
    pub doc: &'static str,
}

/// A kind of table.
#[derive(Debug)]
pub struct KeyTable {
    /// Name in messages, such as `frame`.
    pub name: &'static str,
    /// Keys, in the order of the reference.
    pub keys: &'static [Key],
    /// Description of additional user-defined names; empty if there are none.
    pub also: &'static str,
}

impl KeyTable {
    /// This kind of table and all nested kinds, each once, from the outside in.
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

    /// Key with this name.
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

const SOURCE: Key = may("source", Takes::Text, "Source in the datasheet.");
const MEANS: Key = may("means", Takes::Text, "Description in the datasheet's words.");

/// The sheet itself.
pub static SHEET: KeyTable = KeyTable {
    name: "sheet",
    keys: &[
        must("part", Takes::Text, "Name of the part, as printed on the datasheet."),
        may("title", Takes::Text, "Short description of the part."),
        may("source", Takes::Text, "The datasheet and its revision."),
        may("allow", Takes::Names, "Warnings of `check` that are disabled for this sheet."),
        may("i2c", Takes::Table(&I2C), "Access over I2C or SMBus."),
        may("spi", Takes::Table(&SPI), "Access over SPI."),
        may("modbus", Takes::Table(&MODBUS), "Access over Modbus."),
        may("register", Takes::Named(&REGISTER), "A register, its fields and its reset value."),
        may("field", Takes::Named(&FIELD), "A field that is put together from bits of several registers."),
        may("frame", Takes::Named(&FRAME), "Bytes that are read together, and the codes in them."),
        may("reading", Takes::Named(&READING), "A physical quantity and its formula."),
        may("shared", Takes::Named(&SHARED), "An intermediate value of several readings."),
        may("derived", Takes::Named(&DERIVED), "A quantity computed from readings, also those of the previous frame: a dew point, a dose."),
        may("parameter", Takes::Named(&PARAMETER), "A number supplied by the user."),
        may("quantity", Takes::Named(&QUANTITY), "A physical value stored in fields: a threshold, a hysteresis."),
        may("routine", Takes::NamedLists(&STEP), "Steps on the bus: wake the part, measure, read its calibration."),
        may("table", Takes::Named(&TABLE), "A curve through points; formulas call it: `CURVE(x)`."),
        may("example", Takes::TableOrList(&EXAMPLE), "A worked example from the datasheet; `check` runs it."),
        may("variant", Takes::Named(&VARIANT), "Another part of the same datasheet: the differences, under the same keys."),
    ],
    also: "",
};

/// `[i2c]`.
pub static I2C: KeyTable = KeyTable {
    name: "i2c",
    keys: &[
        must("address", Takes::Address, "The 7-bit address; an 8-bit form, with the read/write bit, is typed `\"0x58 8-bit\"`."),
        may("strap", Takes::NamedValues, "Pins that select the address: for each pin, level = address. Without it the address is fixed."),
        may(
            "pointer",
            Takes::Integer,
            "Bits of the register address or command that is sent first: 8 or 16; 0 for a part without register addresses. Default: 8.",
        ),
        may("restart", Takes::Boolean, "Repeated start between pointer and data; with `false`, stop and start. Default: `true`."),
        may("increment", Takes::Integer, "Bits set in the register address for auto-increment; default: none."),
        may(
            "auto_increment",
            Takes::Boolean,
            "The register address increments from register to register; with `false`, each register is read in its own transfer. Default: `true`.",
        ),
        may("pec", Takes::Boolean, "Register writes end with SMBus's packet error code (CRC-8/SMBUS over the address byte too)."),
        may("max_khz", Takes::Integer, "Maximum clock, in kHz; default: not stated."),
    ],
    also: "",
};

/// `[spi]`.
pub static SPI: KeyTable = KeyTable {
    name: "spi",
    keys: &[
        must("mode", Takes::Integer, "Clock mode, 0 to 3."),
        may("bit_order", Takes::Word(&["msb first", "lsb first"]), "First bit of a byte; default: `msb first`."),
        may("pointer", Takes::Integer, "Bits of the address that is sent first: 8 or 16; 0 for a part without addresses. Default: 8."),
        may("shift", Takes::Integer, "Left shift of the address; default: 0."),
        may("read", Takes::Integer, "Bits set in the address byte to read."),
        may("write", Takes::Integer, "Bits set in the address byte to write."),
        may("increment", Takes::Integer, "Bits set for auto-increment."),
        may("auto_increment", Takes::Boolean, "As for I2C."),
        may("dummy", Takes::Integer, "Bytes between the address and the first data byte; default: 0."),
        may("late", Takes::Boolean, "The answer comes in the next transfer."),
        may("max_khz", Takes::Integer, "Maximum clock, in kHz; default: not stated."),
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
            "Address notation of the datasheet: as on the wire, from 1, or five or six digits that start with the digit of the table.",
        ),
        may("baud", Takes::Integer, "Bits per second, as delivered."),
        may("parity", Takes::Word(&["none", "even", "odd"]), "Parity, as delivered."),
        may("stop", Takes::Integer, "Stop bits, 1 or 2."),
        may("unit_field", Takes::Text, "Field with the unit id; after a write, the part answers as the new unit."),
        may("baud_field", Takes::Text, "Field for the speed of the line, with a column `baud`, or the number itself."),
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
        must("at", Takes::Integer, "Address; over Modbus, of a holding register, as printed."),
        may("width", Takes::Integer, "Bits: 8 to 64, whole bytes; default: 8."),
        may("order", Takes::Word(&["high first", "low first"]), "First byte on the bus; default: `high first`."),
        may("access", ACCESS, "Access; default: `read-write`."),
        may("reset", Takes::Integer, "Value after a reset."),
        may("bank", Takes::NamedValues, "Accessible only while these fields have these values."),
        may("while", Takes::NamedValues, "Writable only while these fields have these values."),
        may("count", Takes::Integer, "Number of elements of an array, `NAME_0`, `NAME_1`, …; the names of fields get the same suffix."),
        may("names", Takes::Names, "An array, in place of `count`: the suffix of each name, such as `[\"x\", \"y\", \"z\"]`."),
        may("every", Takes::Integer, "Address step of an array; default: its bytes, over Modbus its words."),
        may("field", Takes::Named(&FIELD), "Fields."),
        may("reserved", Takes::TableOrList(&RESERVED), "Reserved bits."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `reserved = { ... }` of a register.
pub static RESERVED: KeyTable = KeyTable {
    name: "reserved",
    keys: &[must("bits", Takes::Bits, "The bits."), may("write", Takes::Integer, "Value to write; default: the reset value.")],
    also: "",
};

/// `[register.NAME.field.NAME]` and `[field.NAME]`.
pub static FIELD: KeyTable = KeyTable {
    name: "field",
    keys: &[
        must(
            "bits",
            Takes::BitsOrList,
            "Bits, most significant first: `\"[7:4]\"`; of several registers `\"HIGH[3:0] LOW\"`; of other fields, which keep their names, `\"FAST QUIET\"`. A list is an array of fields with equal properties, `NAME_0`, `NAME_1`, …",
        ),
        may("names", Takes::Names, "For an array of fields: the suffix of each name, such as `[\"x\", \"y\", \"z\"]`."),
        may("values", Takes::TableOrListOrName(&VALUE), "The datasheet's table of values; or the name of a field with the same table."),
        may("access", ACCESS, "Access; default: that of the register, or of the fields that it is put together from."),
        may(
            "computed",
            Takes::Formula,
            "Formula for the code, from parameters and other fields: a calibration word from a bore. Reals are rounded to the nearest code, halves away from zero; `(int32_t)(…)` truncates instead.",
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
    also: "columns of the datasheet's table, numbers: `gain = 4`, `ms = 14.0`. Formulas use them as `FIELD.gain`",
};

/// `[frame.NAME]`.
pub static FRAME: KeyTable = KeyTable {
    name: "frame",
    keys: &[
        may("read", Takes::Integer, "Number of bytes, 1 to 4096; for a frame without `registers`, `transfers` or a Modbus table."),
        may("length", Takes::Formula, "Number of valid bytes, computed from an earlier code: a FIFO that was not full."),
        may(
            "command",
            Takes::Bytes,
            "Bytes that are sent before the read; a formula for bytes that depend on settings: `[0x4C, \"RATE << 3\"]`.",
        ),
        may("wait", Takes::TimeOrFormula, "Time between command and read; a formula for milliseconds."),
        may("keep", Takes::Boolean, "Read once and kept: calibration words. Readings of other frames need it first."),
        may(
            "blank",
            Takes::Word(&["refused", "suspect", "good"]),
            "A frame of only zeros or only ones, as if no part answered: refused, decoded with a warning, or a measurement. Default: `refused` with `keep`; `good` with `check`, over Modbus, or for one byte; otherwise `suspect`.",
        ),
        may(
            "registers",
            Takes::Registers,
            "Its registers, in one text: `\"STATUS..DATA_L\"`, or names separated by blanks; registers that are not adjacent are read in separate transfers.",
        ),
        may("transfers", Takes::TableOrList(&TRANSFER), "Several transfers; their answers are concatenated."),
        may("holding", Takes::ModbusAddress, "Modbus holding registers (function 3), as printed: `\"40011..40014\"`."),
        may("input", Takes::ModbusAddress, "Modbus input registers (function 4)."),
        may("coils", Takes::ModbusAddress, "Modbus coils (function 1)."),
        may("discrete", Takes::ModbusAddress, "Modbus discrete inputs (function 2)."),
        may("check", Takes::TableOrList(&CHECK), "Checks that the bytes must pass."),
        may(
            "code",
            Takes::NamedLayouts(&CODE),
            "Codes of the frame: for each name, its layout. The fields of its registers are codes too.",
        ),
        may("reserved", Takes::Slices, "Reserved bits; `check` warns about other unnamed bits."),
        may("status", Takes::TableOrList(&STATUS), "Status conditions of all readings of the frame."),
        may(
            "while",
            Takes::NamedValues,
            "The bytes are a measurement only while these fields have these values: the part is awake, or in a mode. Otherwise the readings are invalid.",
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
        must("layout", Takes::LayoutOrList, "Position and form of the bits; a list of layouts is an array."),
        may("names", Takes::Names, "For an array: the suffix of each name, in place of `0`, `1`, …: `[\"x\", \"y\", \"z\"]`."),
        may("range", Takes::Range, "Valid codes; a formula that uses another code has a fault."),
        MEANS,
    ],
    also: "",
};

/// A transfer of a frame.
pub static TRANSFER: KeyTable = KeyTable {
    name: "transfer",
    keys: &[
        may("command", Takes::Bytes, "Bytes that are sent first."),
        may("wait", Takes::TimeOrFormula, "Time between command and read."),
        must("read", Takes::Integer, "Number of bytes to read."),
    ],
    also: "",
};

/// `check = { ... }` of a frame.
pub static CHECK: KeyTable = KeyTable {
    name: "check",
    keys: &[
        may("crc", Takes::TableOrModel(&CRC), "A cyclic redundancy check: the parameters of its model, or the name of a common one."),
        may("sum", Takes::Table(&SUM), "Sum of the bytes."),
        may("xor", Takes::Integer, "XOR of the bytes, with this start value."),
        may("parity", Takes::Word(&["even", "odd"]), "A bit that makes the number of ones even or odd."),
        must(
            "over",
            Takes::Cover,
            "Covered bytes, in order: slices, `addr:w` and `addr:r` for the address bytes, constants such as `0x10` and `0b0000`.",
        ),
        must("in", Takes::Slices, "Position of the check value, most significant first."),
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
        may("refin", Takes::Boolean, "Each byte is processed least significant bit first; default: false."),
        may("refout", Takes::Boolean, "The register is bit-reversed at the end; default: as `refin`."),
        may("xorout", Takes::Integer, "XOR of the result; default: 0."),
    ],
    also: "",
};

/// `sum = { ... }`.
pub static SUM: KeyTable = KeyTable {
    name: "sum",
    keys: &[
        must("width", Takes::Integer, "Number of bits of the sum."),
        may("init", Takes::Integer, "Start value; default: 0."),
        may("modulo", Takes::Integer, "The sum is taken modulo this number."),
        may("then", Takes::Word(&["plain", "invert", "negate"]), "Final operation on the sum; default: `plain`."),
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
            "Status if the condition is true. `alert` and `saturated` keep the value; the others withhold it.",
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
        must("formula", Takes::Formula, "Formula from the codes to the quantity, in C."),
        may(
            "range",
            Takes::RangeOrFormulas,
            "Range of valid values in the datasheet; a value outside it is `out of range`. Formulas for limits that depend on settings: `[\"-SPAN.full\", \"SPAN.full\"]`.",
        ),
        may("decimals", Takes::Integer, "Number of decimals to show, 0 to 9; default: from the step of the reading."),
        may("status", Takes::TableOrList(&STATUS), "Status conditions of this reading."),
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
    KeyTable { name: "shared", keys: &[must("formula", Takes::Formula, "Formula, in C."), MEANS, SOURCE], also: "" };

/// `[derived.NAME]`.
pub static DERIVED: KeyTable = KeyTable {
    name: "derived",
    keys: &[
        must("unit", Takes::Text, "The unit, as a symbol: `°C`, `lx·h`."),
        must(
            "formula",
            Takes::Formula,
            "Formula over readings, in C. `before.NAME` is a reading or a derived quantity of the previous frame, `elapsed` the seconds since then.",
        ),
        may(
            "start",
            Takes::NumberOrFormula,
            "First value of a quantity with `before` of itself, such as a sum: `0`; or a formula over the readings.",
        ),
        may(
            "gap",
            Takes::Time,
            "With `before` or `elapsed`: maximum time between two frames, such as `\"15 min\"`. After a longer gap, or if the clock went back, it restarts; a sum keeps its value.",
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
        must("default", Takes::NumberOrName, "Default value; for a parameter with `values`, a code or a name."),
        may("unit", Takes::Text, "Unit."),
        may("range", Takes::Range, "Accepted values."),
        may(
            "values",
            Takes::TableOrListOrName(&VALUE),
            "The datasheet's table of values, for a setting without a register that a command or a pin selects. It is used like a field.",
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
        must("points", Takes::Points, "`[[x, y], ...]`, x rising; straight lines between the points."),
        must(
            "outside",
            Takes::Word(&["hold", "extend", "fault"]),
            "Values beyond the ends: the end's value, the last line extended, or a fault.",
        ),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[quantity.NAME]`.
pub static QUANTITY: KeyTable = KeyTable {
    name: "quantity",
    keys: &[
        must("unit", Takes::Text, "Unit."),
        may("formula", Takes::Formula, "Formula from fields, parameters and other quantities to the value."),
        may("reading", Takes::Text, "In place of `formula`: the reading whose formula is used."),
        may("code", Takes::Formula, "With `reading`: formula from fields to a value in place of the reading's code."),
        may("difference", Takes::Boolean, "The quantity is a difference, such as a hysteresis: 1 K equals 1 °C."),
        may("moves", Takes::Names, "Fields to change; default: those in the formula."),
        may("not_below", Takes::Text, "Lower limit: another quantity."),
        may("alert", Takes::Word(&["above", "below"]), "The part raises its alert if the reading is above or below the quantity."),
        may("flag", Takes::Condition, "With `alert`: the part's flag for this threshold, true while the threshold raises the alert."),
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
            "Sends bytes; over Modbus, function and data of a request, without unit and CRC. Over I2C, `[]` sends the address alone. Or names of registers: they are written with the present values of their fields, after `computed` fields are computed.",
        ),
        may("set", Takes::NamedValues, "Sets fields and writes their registers."),
        may("verify", Takes::Boolean, "With `set`: reads the registers back and compares them."),
        may("read", Takes::Registers, "Reads a frame or registers, by name."),
        may("wait", Takes::TimeOrFormula, "Waits for this time; a formula for milliseconds."),
        may("tolerance", Takes::Number, "With `wait`: tolerance of the datasheet in percent; it is added to the wait."),
        may("poll", Takes::Condition, "Reads the inputs of the condition repeatedly until it is true."),
        may("line", Takes::Word(&["high", "low"]), "Waits until the data-ready line has this level."),
        may("every", Takes::TimeOrFormula, "With `poll` or `retry`: interval; default: 1 ms."),
        may("within", Takes::TimeOrFormula, "With `poll` or `line`: timeout, after which the routine fails."),
        may(
            "expect",
            Takes::Condition,
            "Reads the inputs of the condition once; the routine fails unless it is true: an identity. A condition over parameters alone reads nothing.",
        ),
        may("do", Takes::Text, "Runs another routine."),
        may("when", Takes::Condition, "Condition for the step, over the values last read or set."),
        may("repeat", Takes::Integer, "Number of repetitions of the step, 2 to 1000."),
        may(
            "may_nak",
            Takes::Boolean,
            "With `write`: a missing acknowledgement is not an error, for parts that wake up at their address. Default: `false`.",
        ),
        may("retry", Takes::Integer, "Number of retries after a missing acknowledgement, 1 to 1000."),
        MEANS,
        SOURCE,
    ],
    also: "",
};

/// `[[example]]`.
pub static EXAMPLE: KeyTable = KeyTable {
    name: "example",
    keys: &[
        may("source", Takes::Text, "Source in the datasheet."),
        may(
            "set",
            Takes::NamedValues,
            "Fields with other values than after a reset: for each, the name of the value or its code. Also parameters and quantities, with their units.",
        ),
        may(
            "gives",
            Takes::NamedValues,
            "Expected results: for each reading or quantity, its value with the unit, or its status; for each code, its number or text.",
        ),
        may("every", Takes::Time, "For a sequence of frames: the interval, for derived quantities over time."),
        may("writes", Takes::NamedValues, "Expected writes of `set`: for each register, its value."),
        may("sends", Takes::Names, "Expected bytes of `set` on the first bus: for each write, in order, in hex as `configure` shows them."),
        may(
            "refused",
            Takes::Word(&["check failed", "too short", "too long", "blank", "exception", "foreign"]),
            "Expected cause for which the frame is refused.",
        ),
    ],
    also: "one key per frame, with its name: its bytes in hex, or a list for a sequence of frames",
};

/// `[variant.NAME]`: any keys of the sheet, put over it.
pub static VARIANT: KeyTable = KeyTable {
    name: "variant",
    keys: &[],
    also: "any key of the sheet: it replaces or extends the keys of the sheet; a list, such as `example` or a table of values, replaces the sheet's list",
};
