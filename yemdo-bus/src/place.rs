//! One way to say where a part is, for every bus.
//!
//! | where | written |
//! |---|---|
//! | I2C bus 1, the sheet's address | `i2c:1` |
//! | the same, another of its addresses | `i2c:1@0x2D` |
//! | SPI device, with a clock | `spi:0.1` · `spi:0.1,2000kHz` |
//! | Modbus RTU on a serial port | `rtu:/dev/ttyUSB0` · `rtu:/dev/ttyUSB0,9600,even,1@17` |
//! | the same, where the kernel's driver switches an RS-485 line | `rtu:/dev/ttyS1,rs485` |
//! | the same on a two-wire line that gives back what is sent | `rtu:/dev/ttyUSB0,echo` |
//! | Modbus TCP | `tcp:192.0.2.7` · `tcp:192.0.2.7:1502@17` |
//! | a stand-in, made from the sheet | `stand-in` · `stand-in:temperature=21.5;seed=3` |
//! | a recording | `recording:day.txt` |
//!
//! Behind `@` stands the 7-bit I2C address, or the Modbus unit id.

use std::fmt;

use yemdo::bus::Bus;
use yemdo::{Part, parse_integer};

/// Where a part is.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Place {
    /// An I2C bus of Linux.
    I2c {
        /// The device, such as `/dev/i2c-1`.
        path: String,
        /// The 7-bit address; `None` for the sheet's.
        address: Option<u8>,
    },
    /// An SPI device of Linux.
    Spi {
        /// The device, such as `/dev/spidev0.1`.
        path: String,
        /// The clock.
        hertz: Option<u32>,
    },
    /// Modbus RTU on a serial port.
    Rtu {
        /// The port.
        path: String,
        /// Bits a second; `None` for the sheet's.
        baud: Option<u32>,
        /// `none`, `even` or `odd`; `None` for the sheet's.
        parity: Option<&'static str>,
        /// Stop bits; `None` for the sheet's.
        stop: Option<u8>,
        /// The kernel's driver switches the direction of an RS-485 line.
        rs485: bool,
        /// The line gives back what is sent.
        echo: bool,
        /// The unit id; `None` for the sheet's.
        unit: Option<u8>,
    },
    /// Modbus TCP.
    Tcp {
        /// The host.
        host: String,
        /// The port, usually 502.
        port: u16,
        /// The unit id; `None` for the sheet's.
        unit: Option<u8>,
    },
    /// A stand-in, made from the sheet.
    StandIn {
        /// The bus, where the part has several.
        bus: Option<Bus>,
        /// Readings and what they are, as signals; `seed`, `faults`, `noise`.
        options: Vec<(String, String)>,
    },
    /// A recording.
    Recording {
        /// The file.
        path: String,
    },
}

/// A text that names no place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceError {
    /// What is wrong.
    pub message: String,
    /// What to write.
    pub help: String,
}

impl fmt::Display for PlaceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for PlaceError {}

/// The parities that there are.
pub(crate) const PARITIES: [&str; 3] = ["none", "even", "odd"];

const FORMS: &str = "i2c:1, spi:0.0, rtu:/dev/ttyUSB0,19200,even@17, tcp:HOST:502@17, stand-in, or recording:FILE";

impl Place {
    /// Reads a place as it is written.
    ///
    /// ```
    /// use yemdo_bus::place::Place;
    /// let place = Place::parse("i2c:1@0x2D")?;
    /// assert_eq!(place, Place::I2c { path: "/dev/i2c-1".into(), address: Some(0x2D) });
    /// assert_eq!(place.to_string(), "i2c:1@0x2D");
    /// # Ok::<(), yemdo_bus::place::PlaceError>(())
    /// ```
    ///
    /// # Errors
    /// [`PlaceError`].
    pub fn parse(text: &str) -> Result<Self, PlaceError> {
        let wrong = |message: String, help: &str| PlaceError { message, help: help.to_owned() };
        let (kind, rest) = text.split_once(':').unwrap_or((text, ""));
        let (rest, behind) = match kind {
            "i2c" | "rtu" | "tcp" => rest.rsplit_once('@').map_or((rest, None), |(rest, behind)| (rest, Some(behind))),
            _ => (rest, None),
        };
        let number = behind.map(|typed| {
            let value = parse_integer(typed).and_then(|value| u8::try_from(value).ok());
            value.ok_or_else(|| wrong(format!("`{typed}` behind @ is not an address"), "write a 7-bit address as 0x2C, or a unit id as 17"))
        });
        let number = number.transpose()?;
        if rest.is_empty() && !matches!(kind, "stand-in") {
            return Err(wrong(format!("`{text}` does not say where the part is"), &format!("write {FORMS}")));
        }
        match kind {
            "i2c" => {
                if let Some(address) = number.filter(|address| *address > 0x7F) {
                    let help = format!("if that is the 8-bit form, with the read/write bit, write 0x{:02X}", address >> 1);
                    return Err(wrong(format!("0x{address:02X} is not a 7-bit address"), &help));
                }
                let path = if rest.starts_with('/') { rest.to_owned() } else { format!("/dev/i2c-{rest}") };
                Ok(Place::I2c { path, address: number })
            }
            "spi" => {
                let (device, clock) = rest.split_once(',').map_or((rest, None), |(device, clock)| (device, Some(clock)));
                let hertz =
                    clock.map(|clock| hertz(clock).ok_or_else(|| wrong(format!("`{clock}` is not a clock"), "write 500kHz, or 2MHz")));
                let path = if device.starts_with('/') { device.to_owned() } else { format!("/dev/spidev{device}") };
                Ok(Place::Spi { path, hertz: hertz.transpose()? })
            }
            "rtu" => {
                let mut words = rest.split(',');
                let path = words.next().unwrap_or("").to_owned();
                let (mut baud, mut parity, mut stop, mut rs485, mut echo) = (None, None, None, false, false);
                for word in words {
                    if matches!(word, "rs485" | "echo") {
                        rs485 |= word == "rs485";
                        echo |= word == "echo";
                        continue;
                    }
                    match (PARITIES.iter().find(|known| **known == word), word.parse::<u32>()) {
                        (Some(known), _) => parity = Some(*known),
                        (None, Ok(bits @ (1 | 2))) => stop = u8::try_from(bits).ok(),
                        (None, Ok(bits)) if (50..=4_000_000).contains(&bits) => baud = Some(bits),
                        _ => {
                            let help = "write baud, parity (none, even, odd) and stop bits: rtu:/dev/ttyUSB0,9600,even,1";
                            return Err(wrong(format!("`{word}` is neither baud nor parity nor stop bits"), help));
                        }
                    }
                }
                Ok(Place::Rtu { path, baud, parity, stop, rs485, echo, unit: unit(number)? })
            }
            "tcp" => {
                let (host, port) = match rest.rsplit_once(':') {
                    Some((host, port)) if !host.ends_with(':') => {
                        let port = port.parse().map_err(|_| wrong(format!("`{port}` is not a port"), "write 1 to 65535, usually 502"))?;
                        (host, port)
                    }
                    _ => (rest, 502),
                };
                let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
                Ok(Place::Tcp { host, port, unit: unit(number)? })
            }
            "stand-in" => {
                let mut options: Vec<(String, String)> = Vec::new();
                let mut bus = None;
                for word in rest.split(';').map(str::trim).filter(|word| !word.is_empty()) {
                    match (word.split_once('='), Bus::of_key(word)) {
                        (Some((name, value)), _) => options.push((name.trim().to_owned(), value.trim().to_owned())),
                        (None, Some(named)) => bus = Some(named),
                        _ => {
                            let help = "write READING=VALUE, separated by `;`: stand-in:temperature=20 + t;seed=3";
                            return Err(wrong(format!("`{word}` is not an option of a stand-in"), help));
                        }
                    }
                }
                Ok(Place::StandIn { bus, options })
            }
            "recording" => Ok(Place::Recording { path: rest.to_owned() }),
            _ => Err(wrong(format!("`{text}` does not say where the part is"), &format!("write {FORMS}"))),
        }
    }

    /// The bus that it is.
    pub fn bus(&self, part: &Part) -> Option<Bus> {
        match self {
            Place::I2c { .. } => Some(Bus::I2c),
            Place::Spi { .. } => Some(Bus::Spi),
            Place::Rtu { .. } | Place::Tcp { .. } => Some(Bus::Modbus),
            Place::StandIn { bus, .. } => bus.or_else(|| part.buses().all().next()),
            Place::Recording { .. } => part.buses().all().next(),
        }
    }

    /// The part with the address or unit of this place.
    ///
    /// # Errors
    /// The part can never have this I2C address.
    pub fn addressed(&self, part: Part) -> Result<Part, yemdo::part::NotAnAddress> {
        match self {
            Place::I2c { address: Some(address), .. } => part.with_address(*address),
            Place::Rtu { unit: Some(unit), .. } | Place::Tcp { unit: Some(unit), .. } => Ok(part.with_unit(*unit)),
            _ => Ok(part),
        }
    }

    /// What is shared with other parts: the bus, without the part's address. Parts in places with the same one are on one bus.
    pub fn shared(&self) -> String {
        match self {
            Place::I2c { path, .. } => format!("i2c:{path}"),
            Place::Spi { path, .. } => format!("spi:{path}"),
            Place::Rtu { path, .. } => format!("rtu:{path}"),
            Place::Tcp { host, port, .. } => format!("tcp:{host}:{port}"),
            Place::StandIn { .. } => "stand-in".into(),
            Place::Recording { path } => format!("recording:{path}"),
        }
    }
}

fn unit(number: Option<u8>) -> Result<Option<u8>, PlaceError> {
    match number {
        Some(unit @ (0 | 248..)) => {
            Err(PlaceError { message: format!("{unit} is not a unit id"), help: "units are 1 to 247; 0 is a broadcast".into() })
        }
        other => Ok(other),
    }
}

fn hertz(text: &str) -> Option<u32> {
    let (number, factor) = match (text.strip_suffix("MHz"), text.strip_suffix("kHz"), text.strip_suffix("Hz")) {
        (Some(number), ..) => (number, 1e6),
        (_, Some(number), _) => (number, 1e3),
        (_, _, Some(number)) => (number, 1.0),
        _ => return None,
    };
    let hertz = number.trim().parse::<f64>().ok()? * factor;
    (1.0..=2e8).contains(&hertz).then_some(hertz as u32)
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::I2c { path, address } => {
                write!(f, "i2c:{}", path.strip_prefix("/dev/i2c-").unwrap_or(path))?;
                address.iter().try_for_each(|address| write!(f, "@0x{address:02X}"))
            }
            Place::Spi { path, hertz } => {
                write!(f, "spi:{}", path.strip_prefix("/dev/spidev").unwrap_or(path))?;
                hertz.iter().try_for_each(|hertz| write!(f, ",{}kHz", f64::from(*hertz) / 1000.0))
            }
            Place::Rtu { path, baud, parity, stop, rs485, echo, unit } => {
                write!(f, "rtu:{path}")?;
                baud.iter().try_for_each(|baud| write!(f, ",{baud}"))?;
                parity.iter().try_for_each(|parity| write!(f, ",{parity}"))?;
                stop.iter().try_for_each(|stop| write!(f, ",{stop}"))?;
                f.write_str(if *rs485 { ",rs485" } else { "" })?;
                f.write_str(if *echo { ",echo" } else { "" })?;
                unit.iter().try_for_each(|unit| write!(f, "@{unit}"))
            }
            Place::Tcp { host, port, unit } => {
                if host.contains(':') {
                    write!(f, "tcp:[{host}]:{port}")?
                } else {
                    write!(f, "tcp:{host}:{port}")?
                }
                unit.iter().try_for_each(|unit| write!(f, "@{unit}"))
            }
            Place::StandIn { bus, options } => {
                let bus = bus.iter().map(|bus| bus.key().to_owned());
                let all: Vec<String> = bus.chain(options.iter().map(|(name, value)| format!("{name}={value}"))).collect();
                if all.is_empty() { f.write_str("stand-in") } else { write!(f, "stand-in:{}", all.join(";")) }
            }
            Place::Recording { path } => write!(f, "recording:{path}"),
        }
    }
}
