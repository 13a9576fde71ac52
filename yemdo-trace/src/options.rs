//! Facts that a capture does not contain.

use yemdo::Part;

use crate::edges::Parity;

/// Purpose of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Role {
    /// I2C clock.
    Scl,
    /// I2C data.
    Sda,
    /// SPI clock.
    Clk,
    /// SPI data to the part.
    Mosi,
    /// SPI data from the part.
    Miso,
    /// SPI chip select, active low; there can be several.
    Cs,
    /// Serial line from the client.
    Tx,
    /// Serial line to the client, or the only one of a pair of wires.
    Rx,
}

impl Role {
    /// All of them.
    pub const ALL: [Role; 8] = [Role::Scl, Role::Sda, Role::Clk, Role::Mosi, Role::Miso, Role::Cs, Role::Tx, Role::Rx];

    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            Role::Scl => "scl",
            Role::Sda => "sda",
            Role::Clk => "clk",
            Role::Mosi => "mosi",
            Role::Miso => "miso",
            Role::Cs => "cs",
            Role::Tx => "tx",
            Role::Rx => "rx",
        }
    }

    /// The line of that name, as boards and schematics usually label it.
    pub fn of_usual_name(name: &str) -> Option<Role> {
        let name = name.trim().to_ascii_lowercase();
        let last = name.rsplit(['.', '/', ' ']).next().unwrap_or(&name);
        let word = last.trim_matches(|c: char| !c.is_ascii_alphanumeric());
        let known = Role::ALL.into_iter().find(|role| word == role.as_str());
        known.or(match word {
            "sck" | "sclk" | "clock" => Some(Role::Clk),
            "sdo" | "do" | "copi" => Some(Role::Mosi),
            "sdi" | "di" | "cipo" => Some(Role::Miso),
            "ncs" | "csn" | "ss" | "nss" | "ce" | "cs_n" => Some(Role::Cs),
            _ if word.strip_prefix("cs").is_some_and(|rest| rest.bytes().all(|byte| byte.is_ascii_digit())) => Some(Role::Cs),
            "txd" | "uart_tx" => Some(Role::Tx),
            "rxd" | "uart_rx" | "rs485" => Some(Role::Rx),
            _ => None,
        })
    }
}

/// Form of the characters on a serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Serial {
    /// Bits per second.
    pub baud: u32,
    /// Parity.
    pub parity: Parity,
    /// Stop bits.
    pub stop_bits: u32,
}

impl Serial {
    /// Characters of eight bits.
    pub fn new(baud: u32, parity: Parity, stop_bits: u32) -> Self {
        Self { baud, parity, stop_bits }
    }

    /// The form that a sheet states, as delivered; `None` without Modbus.
    pub fn of(part: &Part) -> Option<Self> {
        let (modbus, usual) = (part.buses().modbus.as_ref()?, Self::default());
        let parity = match modbus.parity {
            Some("none") => Parity::None,
            Some("odd") => Parity::Odd,
            _ => usual.parity,
        };
        Some(Self::new(modbus.baud.unwrap_or(usual.baud), parity, modbus.stop.map_or(usual.stop_bits, u32::from)))
    }
}

impl Default for Serial {
    /// 19 200 baud, even parity: the default of Modbus (Modbus over Serial Line V1.02, section 2.5.1).
    fn default() -> Self {
        Self::new(19_200, Parity::Even, 1)
    }
}

/// Names of columns of a table, for those that its headings do not name as usual.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct TableColumns {
    /// Each role (`time`, `direction`, `address`, `data`, `ack`, `group`) with the heading of its column.
    pub named: Vec<(String, String)>,
    /// Whether numbers without prefix are hex; `None`: decided over the beginning of the table.
    pub hex: Option<bool>,
}

/// How to read a capture, where it does not say so itself.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct CaptureOptions {
    /// Lines by the names that the capture has for them; others are found by their usual names.
    pub lines: Vec<(Role, String)>,
    /// SPI mode, 0 to 3.
    pub mode: u8,
    /// SPI: least significant bit first.
    pub lsb_first: bool,
    /// Serial lines.
    pub serial: Serial,
    /// Pulses that are shorter are dropped, in picoseconds.
    pub glitch: u64,
    /// Time unit of a table, in picoseconds; `None`: from its heading.
    pub unit: Option<u64>,
    /// TableColumns of a table.
    pub columns: TableColumns,
    /// TCP port of Modbus servers.
    pub port: u16,
    /// Whether printed bytes may be whole Modbus requests and responses, over RTU or TCP.
    pub modbus: bool,
}

impl Default for CaptureOptions {
    fn default() -> Self {
        Self {
            lines: Vec::new(),
            mode: 0,
            lsb_first: false,
            serial: Serial::default(),
            glitch: 0,
            unit: None,
            columns: TableColumns::default(),
            port: 502,
            modbus: false,
        }
    }
}

impl CaptureOptions {
    /// SPI mode, bit order and form of serial lines as the sheets of these parts state them: of the first with such a bus.
    pub fn of<'p>(parts: impl IntoIterator<Item = &'p Part>) -> Self {
        let mut options = Self::default();
        let (mut spi, mut serial) = (None, None);
        for part in parts {
            spi = spi.or(part.buses().spi.as_ref().map(|spi| (spi.mode, spi.lsb_first)));
            serial = serial.or(Serial::of(part));
        }
        (options.mode, options.lsb_first) = spi.unwrap_or_default();
        options.modbus = serial.is_some();
        options.serial = serial.unwrap_or_default();
        options
    }

    /// The role of a line of this name.
    pub(crate) fn role_of(&self, name: &str) -> Option<Role> {
        let given = self.lines.iter().find(|(_, own)| own == name || name.rsplit('.').next() == Some(own)).map(|(role, _)| *role);
        // A role that was given to another line is not looked for.
        given.or_else(|| Role::of_usual_name(name).filter(|role| *role == Role::Cs || self.lines.iter().all(|(known, _)| known != role)))
    }
}

/// Picoseconds of a time with its unit: `50 ns`, `1.5us`.
pub fn parse_duration(text: &str) -> Option<u64> {
    let text = text.trim();
    let split = text.find(|c: char| c.is_alphabetic() || c == 'µ')?;
    let (number, unit) = text.split_at(split);
    let number: f64 = number.trim().parse().ok()?;
    let picos = number * picoseconds(unit.trim())? as f64;
    (0.0..1e18).contains(&picos).then_some(picos.round() as u64)
}

/// Picoseconds of a unit of time.
pub(crate) fn picoseconds(unit: &str) -> Option<u64> {
    Some(match unit {
        "s" | "sec" | "second" | "seconds" => 1_000_000_000_000,
        "ms" => 1_000_000_000,
        "us" | "µs" | "μs" => 1_000_000,
        "ns" => 1000,
        "ps" => 1,
        _ => return None,
    })
}
