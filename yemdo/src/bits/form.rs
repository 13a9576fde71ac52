//! Number forms: how the joined bits of a code are to be read.

/// A way to read bits as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Form {
    /// Plain binary.
    #[default]
    Unsigned,
    /// Two's complement.
    Signed,
}

impl Form {
    /// The forms' names in the sheet.
    pub const NAMES: &'static [&'static str] = &["unsigned", "signed"];

    /// The form of that name.
    pub fn named(name: &str) -> Option<Form> {
        match name {
            "unsigned" => Some(Form::Unsigned),
            "signed" => Some(Form::Signed),
            _ => None,
        }
    }

    /// The name in the sheet.
    pub fn name(self) -> &'static str {
        match self {
            Form::Unsigned => "unsigned",
            Form::Signed => "signed",
        }
    }

    /// Whether a code of this form may have so many bits; if not, what was expected.
    ///
    /// # Errors
    /// The widths that are possible, in words.
    pub fn accepts(self, width: u32) -> Result<(), &'static str> {
        if (1..=64).contains(&width) { Ok(()) } else { Err("1 to 64 bits") }
    }

    /// Lowest and highest value of a code of so many bits.
    pub fn bounds(self, width: u32) -> (i128, i128) {
        let width = width.clamp(1, 64);
        match self {
            Form::Unsigned => (0, (1i128 << width) - 1),
            Form::Signed => (-(1i128 << (width - 1)), (1i128 << (width - 1)) - 1),
        }
    }

    /// The value of the joined bits `raw`, of which the lowest `width` count. Unsigned 64-bit codes keep
    /// their bit pattern.
    #[inline]
    pub fn read(self, raw: u64, width: u32) -> i64 {
        match self {
            Form::Unsigned => raw as i64,
            Form::Signed => {
                let unused = 64 - width.clamp(1, 64);
                ((raw << unused) as i64) >> unused
            }
        }
    }
}
