//! Random valid sheets: every key of the sheet with a probability, by bytes of choices.

mod examples;
mod formulas;
mod frames;
mod names;
mod readings;
mod registers;
mod routines;

use crate::choices::Choices;
use crate::toml::{Table, Value};
use formulas::Input;
use names::Names;

/// The buses of a sheet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Bus {
    I2c,
    Spi,
    Modbus,
    I2cAndSpi,
    None,
}

/// Properties of a generated field.
#[derive(Clone, Debug)]
struct FieldInfo {
    /// Its name.
    name: String,
    /// Its name in formulas.
    text: String,
    /// The register that it is declared in.
    register: String,
    /// The registers of the fields that it is put together from.
    parts: Vec<String>,
    width: u32,
    bounds: (i128, i128),
    /// Codes of its table.
    codes: Vec<i128>,
    value_names: Vec<(String, i128)>,
    /// Columns of its table, and if they are whole.
    columns: Vec<(String, bool)>,
    real: bool,
    /// Its name is unique, it is plain binary, and it is outside of register arrays.
    plain: bool,
    writable: bool,
    readable: bool,
    /// Writing a one does something.
    action: bool,
    computed: bool,
    /// Its register can be reached or written in some states only.
    conditional: bool,
    /// No register holds it.
    unstored: bool,
    /// Its table is its own.
    own_table: bool,
}

impl FieldInfo {
    fn new(name: &str, register: &str, width: u32, bounds: (i128, i128)) -> Self {
        Self {
            name: name.to_owned(),
            text: name.to_owned(),
            register: register.to_owned(),
            parts: Vec::new(),
            width,
            bounds,
            codes: Vec::new(),
            value_names: Vec::new(),
            columns: Vec::new(),
            real: false,
            plain: false,
            writable: true,
            readable: true,
            action: false,
            computed: false,
            conditional: false,
            unstored: false,
            own_table: false,
        }
    }

    /// One of its codes as a sheet types it: by its name if it has one, otherwise as a number that is no name.
    fn typed(&self, code: i128) -> Value {
        let name = self.value_names.iter().find(|(_, of)| *of == code).map(|(name, _)| name.clone());
        let is_name = |text: &str| self.value_names.iter().any(|(name, _)| name == text);
        match name {
            Some(name) => Value::Text(name),
            None if code < 0 || is_name(&format!("0x{code:X}")) => Value::Int(code),
            None => Value::Hex(code as u64),
        }
    }

    /// Its names in formulas.
    fn inputs(&self) -> Vec<Input> {
        let own = if self.real { Input::real(&self.text) } else { Input::int(&self.text, self.bounds.0, self.bounds.1) };
        let columns = self.columns.iter().map(|(column, whole)| {
            let text = format!("{}.{column}", self.text);
            if *whole { Input::int(text, 0, 200) } else { Input::real(text) }
        });
        std::iter::once(own).chain(columns).collect()
    }
}

/// Properties of a generated frame.
#[derive(Clone, Debug)]
struct FrameInfo {
    name: String,
    /// Its codes, as its own formulas name them.
    codes: Vec<Input>,
    keep: bool,
    /// The registers that it holds.
    registers: Vec<String>,
    /// Names of arrays in it, with the number of elements.
    arrays: Vec<(String, usize)>,
}

/// A sheet under way.
struct Gen<'g, 'b> {
    c: &'g mut Choices<'b>,
    names: Names,
    root: Table,
    bus: Bus,
    moves_on: bool,
    /// Name, address, width and access of registers that are no arrays.
    registers: Vec<(String, u32, u32, &'static str)>,
    element_registers: Vec<(String, &'static str)>,
    reserved: Vec<Table>,
    conditional: bool,
    /// Commands so far.
    commands: u64,
    fields: Vec<FieldInfo>,
    /// Fields that something names: they stay the only ones of their names.
    named: Vec<String>,
    /// Arrays of fields, with the number of elements.
    arrays: Vec<(String, usize)>,
    /// Parameters that are numbers, with their ranges.
    numbers: Vec<(String, (f64, f64))>,
    /// What can be named at any time.
    held: Vec<Input>,
    curves: Vec<String>,
    frames: Vec<FrameInfo>,
    /// Readings that are no arrays: name, unit, and if they have one code alone.
    readings: Vec<(String, String)>,
    quantities: Vec<(String, String)>,
    shared: Vec<String>,
    routines: Vec<String>,
}

/// The text of a random sheet.
pub fn random(c: &mut Choices<'_>) -> String {
    let mut r#gen = Gen {
        c,
        names: Names::default(),
        root: Table::new(),
        bus: Bus::None,
        moves_on: true,
        registers: Vec::new(),
        element_registers: Vec::new(),
        reserved: Vec::new(),
        conditional: false,
        commands: 0,
        fields: Vec::new(),
        named: Vec::new(),
        arrays: Vec::new(),
        numbers: Vec::new(),
        held: Vec::new(),
        curves: Vec::new(),
        frames: Vec::new(),
        readings: Vec::new(),
        quantities: Vec::new(),
        shared: Vec::new(),
        routines: Vec::new(),
    };
    r#gen.sheet();
    let root = r#gen.root.clone();
    let with_examples = r#gen.examples();
    // An example that says nothing that can be typed is left out.
    if yemdo::Part::parse("sheet.toml", &with_examples.sheet()).is_ok() { with_examples.sheet() } else { root.sheet() }
}

impl Gen<'_, '_> {
    fn sheet(&mut self) {
        self.root.put("part", "hulk-1");
        if self.c.chance(30) {
            self.root.put("title", "part of a random sheet");
        }
        if self.c.chance(20) {
            self.root.put("source", "revision 2");
        }
        if self.c.chance(30) {
            self.root.put("allow", vec!["never-used", "no-example", "not-checked"]);
        }
        self.buses();
        if self.bus != Bus::None {
            self.registers();
        }
        self.parameters();
        self.tables();
        self.early_quantities();
        let count = 1 + self.c.below(3);
        for _ in 0..count {
            self.frame();
        }
        self.shared();
        self.readings();
        self.late_quantities();
        self.derived();
        if self.bus != Bus::None {
            self.routines();
        }
        self.modbus_fields();
        self.variant();
    }

    /// `means` and `source`.
    fn notes(&mut self, table: &mut Table, source: bool) {
        if self.c.chance(8) {
            table.put("means", "the datasheet's words, \"quoted\", with | and *");
        }
        if source && self.c.chance(6) {
            table.put("source", "section 4.2");
        }
    }

    /// Curves by their points.
    fn tables(&mut self) {
        if !self.c.chance(20) {
            return;
        }
        let name = self.names.small(self.c);
        let count = self.c.within(2, 5);
        let mut x = self.c.within(-50, 10) as f64;
        let mut points: Vec<Vec<f64>> = Vec::new();
        for _ in 0..count {
            points.push(vec![x, self.c.within(-300, 300) as f64 * 0.5]);
            x += self.c.within(1, 400) as f64 * 0.5;
        }
        let mut table = Table::new().with("points", points).with("outside", *self.c.pick(&["hold", "extend", "fault"]));
        self.notes(&mut table, true);
        self.root.table("table").put(&name, table);
        self.curves.push(name);
    }

    /// The fields that hold unit id and speed of a Modbus line.
    fn modbus_fields(&mut self) {
        if self.bus != Bus::Modbus {
            return;
        }
        let wide = |field: &&FieldInfo| field.plain && field.writable && field.width >= 8 && field.codes.is_empty() && !field.computed;
        let fields: Vec<FieldInfo> = self.fields.iter().filter(wide).cloned().collect();
        if self.c.chance(10)
            && let Some(field) = self.c.any(&fields)
        {
            self.root.table("modbus").put("unit_field", field.name.as_str());
            // The reset value of the field says it.
            self.root.table("modbus").remove("unit");
        }
        let rates: Vec<FieldInfo> =
            self.fields.iter().filter(|field| field.plain && field.writable && !field.codes.is_empty()).cloned().collect();
        if self.c.chance(10)
            && let Some(field) = self.c.any(&rates)
        {
            self.root.table("modbus").put("baud_field", field.name.as_str());
            self.root.table("modbus").remove("baud");
        }
    }

    /// A variant that differs in a few keys.
    fn variant(&mut self) {
        if !self.c.chance(12) {
            return;
        }
        let mut table = Table::new().with("title", "the other part");
        if let Some((name, ..)) = self.c.any(&self.readings).cloned() {
            table.table("reading").put(&name, Table::new().with("decimals", 3i128));
        }
        self.root.table("variant").put("two", table);
    }
}
