//! TOML, written in the order in which it was put together.

use std::fmt::{self, Display, Formatter};

/// A value of a sheet.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Text.
    Text(String),
    /// A whole number.
    Int(i128),
    /// A whole number, written in hex.
    Hex(u64),
    /// A number with a fraction.
    Real(f64),
    /// `true` or `false`.
    Bool(bool),
    /// A list.
    List(Vec<Value>),
    /// A table.
    Table(Table),
}

/// Keys and values, in order.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Table(pub Vec<(String, Value)>);

impl Table {
    /// An empty table.
    pub fn new() -> Self {
        Self::default()
    }

    /// The same with one more key.
    pub fn with(mut self, key: &str, value: impl Into<Value>) -> Self {
        self.put(key, value);
        self
    }

    /// Adds a key, or replaces its value.
    pub fn put(&mut self, key: &str, value: impl Into<Value>) {
        let value = value.into();
        match self.0.iter_mut().find(|(known, _)| known == key) {
            Some((_, place)) => *place = value,
            None => self.0.push((key.to_owned(), value)),
        }
    }

    /// The value of a key.
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.0.iter().find(|(known, _)| known == key).map(|(_, value)| value)
    }

    /// Removes a key.
    pub fn remove(&mut self, key: &str) {
        self.0.retain(|(known, _)| known != key);
    }

    /// The table under a key; created if missing.
    pub fn table(&mut self, key: &str) -> &mut Table {
        if self.get(key).is_none() {
            self.put(key, Table::new());
        }
        match self.0.iter_mut().find(|(known, _)| known == key) {
            Some((_, Value::Table(table))) => table,
            _ => unreachable!("{key} is no table"),
        }
    }

    /// The whole sheet: a section for each table, everything inside on one line for each key.
    pub fn sheet(&self) -> String {
        let mut text = String::new();
        for (key, value) in self.0.iter().filter(|(_, value)| !matches!(value, Value::Table(_))) {
            text += &format!("{} = {value}\n", quoted(key));
        }
        for (key, table) in self.tables() {
            for (name, list) in table.0.iter().filter(|(_, value)| matches!(value, Value::List(_))) {
                if key == "routine" {
                    text += &format!("{key}.{} = {list}\n", quoted(name));
                }
            }
        }
        for (key, table) in self.tables() {
            let nested = !matches!(key.as_str(), "i2c" | "spi" | "modbus");
            if !nested {
                text += &section(key, table);
                continue;
            }
            for (name, value) in &table.0 {
                if let Value::Table(inner) = value {
                    text += &section(&format!("{key}.{}", quoted(name)), inner);
                }
            }
        }
        text
    }

    fn tables(&self) -> impl Iterator<Item = (&String, &Table)> {
        self.0.iter().filter_map(|(key, value)| if let Value::Table(table) = value { Some((key, table)) } else { None })
    }
}

fn section(name: &str, table: &Table) -> String {
    let lines = table.0.iter().map(|(key, value)| format!("{} = {value}\n", quoted(key)));
    format!("\n[{name}]\n{}", lines.collect::<String>())
}

/// A key, in quotes if it needs them.
fn quoted(key: &str) -> String {
    let bare = !key.is_empty() && key.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'-');
    if bare { key.to_owned() } else { format!("{key:?}") }
}

impl Display for Value {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Value::Text(text) => write!(f, "{text:?}"),
            Value::Int(number) => write!(f, "{number}"),
            Value::Hex(number) => write!(f, "0x{number:X}"),
            Value::Real(number) => write!(f, "{number:?}"),
            Value::Bool(truth) => write!(f, "{truth}"),
            Value::List(list) => {
                let lines = list.len() > 1 && list.iter().any(|value| matches!(value, Value::Table(_)));
                let texts: Vec<String> = list.iter().map(ToString::to_string).collect();
                if lines { write!(f, "[\n  {},\n]", texts.join(",\n  ")) } else { write!(f, "[{}]", texts.join(", ")) }
            }
            Value::Table(table) => {
                let texts: Vec<String> = table.0.iter().map(|(key, value)| format!("{} = {}", quoted(key), flat(value))).collect();
                write!(f, "{{ {} }}", texts.join(", "))
            }
        }
    }
}

/// A value inside an inline table, which has no line breaks.
fn flat(value: &Value) -> String {
    value.to_string().replace(",\n]", "]").replace('\n', " ")
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::Text(text.to_owned())
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Value::Text(text)
    }
}

impl From<bool> for Value {
    fn from(truth: bool) -> Self {
        Value::Bool(truth)
    }
}

impl From<i128> for Value {
    fn from(number: i128) -> Self {
        Value::Int(number)
    }
}

impl From<usize> for Value {
    fn from(number: usize) -> Self {
        Value::Int(number as i128)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Value::Real(number)
    }
}

impl From<Table> for Value {
    fn from(table: Table) -> Self {
        Value::Table(table)
    }
}

impl<T: Into<Value>> From<Vec<T>> for Value {
    fn from(list: Vec<T>) -> Self {
        Value::List(list.into_iter().map(Into::into).collect())
    }
}
