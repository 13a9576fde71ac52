//! The buses and serial ports of the machine, with what is known of them.

use std::fs;
use std::path::{Path, PathBuf};

/// A bus or port of the machine.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ListedBus {
    /// Where parts on it are: `i2c:1`, `spi:0.0`, `rtu:/dev/ttyUSB0`.
    pub place: String,
    /// The device.
    pub device: String,
    /// What it says of itself: the adapter's name; of USB devices maker, product, serial number and ids.
    pub about: String,
}

/// The I2C buses, SPI devices and serial ports below a root, which is `/` but for tests.
pub fn list(root: &Path) -> Vec<ListedBus> {
    let text = |path: PathBuf| fs::read_to_string(path).map(|text| yemdo::visible(text.trim()).into_owned()).unwrap_or_default();
    let names = |folder: &str| {
        let entries = fs::read_dir(root.join(folder)).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort_by_key(|name| (name.trim_end_matches(|c: char| c.is_ascii_digit()).to_owned(), number_at_end(name)));
        names
    };
    let mut found = Vec::new();
    for name in names("dev") {
        let device = format!("/dev/{name}");
        if let Some(number) = name.strip_prefix("i2c-") {
            let about = text(root.join(format!("sys/class/i2c-dev/{name}/name")));
            found.push(ListedBus { place: format!("i2c:{number}"), device, about });
        } else if let Some(number) = name.strip_prefix("spidev") {
            found.push(ListedBus { place: format!("spi:{number}"), device, about: "SPI device".into() });
        }
    }
    for name in names("sys/class/tty") {
        let folder = root.join(format!("sys/class/tty/{name}"));
        // Without a device behind it, it is a console or a terminal.
        let Ok(behind) = fs::canonicalize(folder.join("device")) else { continue };
        // Of the ports that a PC could have, those it has have a type.
        if name.starts_with("ttyS") && matches!(text(folder.join("type")).as_str(), "" | "0") {
            continue;
        }
        let about = usb(&behind, root).unwrap_or_else(|| "serial port".into());
        found.push(ListedBus { place: format!("rtu:/dev/{name}"), device: format!("/dev/{name}"), about });
    }
    found
}

fn number_at_end(name: &str) -> u64 {
    let digits = name.len() - name.trim_end_matches(|c: char| c.is_ascii_digit()).len();
    name.get(name.len() - digits..).and_then(|digits| digits.parse().ok()).unwrap_or(0)
}

/// What USB says of the device that a port belongs to.
fn usb(device: &Path, root: &Path) -> Option<String> {
    let root = fs::canonicalize(root).unwrap_or_else(|_| root.to_owned());
    let folder = device.ancestors().take_while(|folder| folder.starts_with(&root)).find(|folder| folder.join("idVendor").is_file())?;
    let text = |name: &str| {
        fs::read_to_string(folder.join(name)).ok().map(|text| yemdo::visible(text.trim()).into_owned()).filter(|text| !text.is_empty())
    };
    let mut about: Vec<String> = ["manufacturer", "product"].iter().filter_map(|name| text(name)).collect();
    about.extend(text("serial").map(|serial| format!("serial number {serial}")));
    about.push(format!("USB {}:{}", text("idVendor")?, text("idProduct").unwrap_or_default()));
    Some(about.join(", "))
}

/// What has come since.
pub fn new_ones(before: &[ListedBus], now: &[ListedBus]) -> Vec<ListedBus> {
    now.iter().filter(|bus| !before.iter().any(|known| known.place == bus.place)).cloned().collect()
}
