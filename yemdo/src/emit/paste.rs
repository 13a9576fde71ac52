//! Bytes as constants of a program.

/// Text for a program's source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Paste {
    /// C99.
    C,
    /// Rust.
    Rust,
    /// Hex bytes.
    Hex,
}

impl Paste {
    /// Bytes under a name.
    pub fn text(self, name: &str, bytes: &[u8]) -> String {
        let list: Vec<String> = bytes.iter().map(|byte| format!("0x{byte:02X}")).collect();
        let plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        match self {
            Paste::C => format!("static const uint8_t {}[{}] = {{ {} }};", plain.to_lowercase(), bytes.len(), list.join(", ")),
            Paste::Rust => format!("const {}: [u8; {}] = [{}];", plain.to_uppercase(), bytes.len(), list.join(", ")),
            Paste::Hex => crate::ground::hex::to_hex(bytes),
        }
    }
}
