// lantern-16: Light on the hull
// After: Lantern 16 datasheet, revision 0.9
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash 0395564aa4a04096.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0x9C to write, 0x9D to read.
pub const I2C_ADDRESS: u8 = 0x4E;

/// I2C address with pin A0 low: 7 bits; on the wire 0x9C to write, 0x9D to read.
pub const I2C_ADDRESS_A0_LOW: u8 = 0x4E;

/// I2C address with pin A0 high: 7 bits; on the wire 0x9E to write, 0x9F to read.
pub const I2C_ADDRESS_A0_HIGH: u8 = 0x4F;

/// Address of register ID: always 0x4C61.
pub const ID_ADDRESS: u8 = 0x30;

/// Address of register CONFIG (section 7.2).
pub const CONFIG_ADDRESS: u8 = 0x12;

/// Address of register STATUS.
pub const STATUS_ADDRESS: u8 = 0x15;

/// Address of register UPPER.
pub const UPPER_ADDRESS: u8 = 0x1A;

/// Address of register LEVEL.
pub const LEVEL_ADDRESS: u8 = 0x21;

/// Address of register WARM.
pub const WARM_ADDRESS: u8 = 0x22;

/// What dose begins with, in lx·h.
pub const DOSE_START: f64 = 0.0;

/// The longest time between two frames that dose goes on over, in seconds.
pub const DOSE_GAP: f64 = 1800.0;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A good value; the part signals an alert.
    Alert,
    /// The end of the part's range; the value is a bound.
    Saturated,
    /// No value: the part had nothing new to say.
    NotReady,
    /// No value: the part says that this is no measurement.
    Invalid,
    /// No value: the formula has none for these codes.
    FormulaFault,
}

/// A reading.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Reading {
    /// Its value; 0 where its status has none.
    pub value: f64,
    /// How far it is to be believed.
    pub status: Status,
}

impl Reading {
    const fn new(value: f64, status: Status) -> Self {
        Self { value, status }
    }

    const fn none(status: Status) -> Self {
        Self::new(0.0, status)
    }

    /// Its value, where its status has one.
    #[must_use]
    pub const fn get(&self) -> Option<f64> {
        match self.status {
            Status::NotReady | Status::Invalid | Status::FormulaFault => None,
            _ => Some(self.value),
        }
    }
}

/// The values of GAIN.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gain {
    /// fifth; gain = 0.2.
    Fifth,
    /// single; gain = 1.
    Single,
    /// fivefold; gain = 5.
    Fivefold,
    /// A code that the datasheet does not name.
    Other(u8),
}

impl Gain {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Fifth,
            1 => Self::Single,
            2 => Self::Fivefold,
            other => Self::Other(other),
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Fifth => 0,
            Self::Single => 1,
            Self::Fivefold => 2,
            Self::Other(code) => code,
        }
    }
}

/// The values of TIME.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Time {
    /// 18 ms; ms = 18, full\_scale = 14000.
    Ms18,
    /// 54 ms; ms = 54, full\_scale = 42000.
    Ms54,
    /// 162 ms; ms = 162, full\_scale = 65535.
    Ms162,
    /// 486 ms; ms = 486, full\_scale = 65535.
    Ms486,
    /// A code that the datasheet does not name.
    Other(u8),
}

impl Time {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Ms18,
            1 => Self::Ms54,
            2 => Self::Ms162,
            3 => Self::Ms486,
            other => Self::Other(other),
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Ms18 => 0,
            Self::Ms54 => 1,
            Self::Ms162 => 2,
            Self::Ms486 => 3,
            Self::Other(code) => code,
        }
    }
}

/// The values of PERSIST.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Persist {
    /// one.
    One,
    /// three.
    Three,
    /// seven.
    Seven,
    /// twelve.
    Twelve,
}

impl Persist {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::One,
            1 => Self::Three,
            2 => Self::Seven,
            _ => Self::Twelve,
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::One => 0,
            Self::Three => 1,
            Self::Seven => 2,
            Self::Twelve => 3,
        }
    }
}

/// The values of ALERT\_ON.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AlertOn {
    /// off.
    Off,
    /// on.
    On,
}

impl AlertOn {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Off,
            _ => Self::On,
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Off => 0,
            Self::On => 1,
        }
    }
}

/// The values of SLEEP.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sleep {
    /// awake.
    Awake,
    /// asleep.
    Asleep,
}

impl Sleep {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Awake,
            _ => Self::Asleep,
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Awake => 0,
            Self::Asleep => 1,
        }
    }
}

/// What the part's registers hold, and what else is set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// ID, read-only: after a reset 0x4C61.
    pub id: u16,
    /// CONFIG, read-write: after a reset 0x8402.
    pub config: u16,
    /// STATUS, clear-on-read: after a reset 0x0000.
    pub status: u16,
    /// UPPER, read-write: after a reset 0xFFFF.
    pub upper: u16,
    /// LEVEL, read-only: its value after a reset is not stated; here it begins as 0x0000.
    pub level: u16,
    /// WARM, read-only: its value after a reset is not stated; here it begins as 0x0000.
    pub warm: u16,
}

impl Settings {
    /// The registers as after a reset.
    pub const RESET: Self = Self {
        id: 0x4C61,
        config: 0x8402,
        status: 0x0000,
        upper: 0xFFFF,
        level: 0x0000,
        warm: 0x0000,
    };

    /// IDENTITY, ID\[15:0\].
    #[must_use]
    pub fn identity(&self) -> u16 {
        self.id
    }

    /// GAIN, CONFIG\[2:1\].
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn gain(&self) -> Gain {
        Gain::from_code(((self.config >> 1) & 0x0003) as u8)
    }

    /// GAIN, CONFIG\[2:1\].
    ///
    /// 0 to 3; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_gain(&mut self, value: Gain) -> bool {
        if value.code() > 3 {
            return false;
        }
        self.config = (self.config & 0xFFF9) | (u16::from(value.code()) << 1);
        true
    }

    /// TIME, CONFIG\[11:9\].
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn time(&self) -> Time {
        Time::from_code(((self.config >> 9) & 0x0007) as u8)
    }

    /// TIME, CONFIG\[11:9\].
    ///
    /// 0 to 7; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_time(&mut self, value: Time) -> bool {
        if value.code() > 7 {
            return false;
        }
        self.config = (self.config & 0xF1FF) | (u16::from(value.code()) << 9);
        true
    }

    /// PERSIST, CONFIG\[6:5\]: how many readings beyond a limit raise the alert.
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn persist(&self) -> Persist {
        Persist::from_code(((self.config >> 5) & 0x0003) as u8)
    }

    /// PERSIST, CONFIG\[6:5\]: how many readings beyond a limit raise the alert.
    ///
    /// 0 to 3; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_persist(&mut self, value: Persist) -> bool {
        if value.code() > 3 {
            return false;
        }
        self.config = (self.config & 0xFF9F) | (u16::from(value.code()) << 5);
        true
    }

    /// ALERT\_ON, CONFIG\[7\].
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn alert_on(&self) -> AlertOn {
        AlertOn::from_code(((self.config >> 7) & 0x0001) as u8)
    }

    /// ALERT\_ON, CONFIG\[7\].
    ///
    /// 0 to 1; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_alert_on(&mut self, value: AlertOn) -> bool {
        if value.code() > 1 {
            return false;
        }
        self.config = (self.config & 0xFF7F) | (u16::from(value.code()) << 7);
        true
    }

    /// START, CONFIG\[12\]: starts one conversion.
    #[must_use]
    pub fn start(&self) -> bool {
        ((self.config >> 12) & 0x0001) != 0
    }

    /// START, CONFIG\[12\]: starts one conversion.
    pub fn set_start(&mut self, value: bool) {
        self.config = (self.config & 0xEFFF) | (u16::from(u8::from(value)) << 12);
    }

    /// SLEEP, CONFIG\[15\].
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn sleep(&self) -> Sleep {
        Sleep::from_code((self.config >> 15) as u8)
    }

    /// SLEEP, CONFIG\[15\].
    ///
    /// 0 to 1; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_sleep(&mut self, value: Sleep) -> bool {
        if value.code() > 1 {
            return false;
        }
        self.config = (self.config & 0x7FFF) | (u16::from(value.code()) << 15);
        true
    }

    /// READY, STATUS\[5\]: a new pair of counts.
    #[must_use]
    pub fn ready(&self) -> bool {
        ((self.status >> 5) & 0x0001) != 0
    }

    /// CLIPPED, STATUS\[7\]: the front end was driven to its end.
    #[must_use]
    pub fn clipped(&self) -> bool {
        ((self.status >> 7) & 0x0001) != 0
    }

    /// TOO\_LIGHT, STATUS\[9\].
    #[must_use]
    pub fn too_light(&self) -> bool {
        ((self.status >> 9) & 0x0001) != 0
    }

    /// TOO\_DARK, STATUS\[11\].
    #[must_use]
    pub fn too_dark(&self) -> bool {
        ((self.status >> 11) & 0x0001) != 0
    }

    /// UPPER\_MANTISSA, UPPER\[15:3\].
    #[must_use]
    pub fn upper_mantissa(&self) -> u16 {
        self.upper >> 3
    }

    /// UPPER\_MANTISSA, UPPER\[15:3\].
    ///
    /// 0 to 8191; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_upper_mantissa(&mut self, value: u16) -> bool {
        if value > 8191 {
            return false;
        }
        self.upper = (self.upper & 0x0007) | (value << 3);
        true
    }

    /// UPPER\_EXPONENT, UPPER\[2:0\].
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn upper_exponent(&self) -> u8 {
        (self.upper & 0x0007) as u8
    }

    /// UPPER\_EXPONENT, UPPER\[2:0\].
    ///
    /// 0 to 7; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_upper_exponent(&mut self, value: u8) -> bool {
        if value > 7 {
            return false;
        }
        self.upper = (self.upper & 0xFFF8) | u16::from(value);
        true
    }

    /// What is written to CONFIG: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn config_value(&self) -> u16 {
        self.config & 0x9EE6
    }

    /// What is written to UPPER: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn upper_value(&self) -> u16 {
        self.upper
    }

    /// Upper limit in lx: the alert comes above it.
    ///
    /// It is UPPER\_MANTISSA \<\< (2 \* UPPER\_EXPONENT).
    #[allow(clippy::cast_possible_truncation)]
    #[must_use]
    pub fn upper_limit(&self) -> Option<f64> {
        let code = i32::from(self.upper >> 3) << (2 * i32::from((self.upper & 0x0007) as u8));
        // GAIN has no row for it
        let gain_gain = gain_gain(((self.config >> 1) & 0x0003) as u8)?;
        // TIME has no row for it
        let time_ms = time_ms(((self.config >> 9) & 0x0007) as u8)?;
        Some(f64::from(code) * 8.1 / (gain_gain * f64::from(time_ms)))
    }

    /// Sets UPPER\_MANTISSA as near as it can be with the other fields as they are.
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::similar_names
    )]
    fn near_upper_limit(&mut self, value: f64) -> bool {
        let mut low: i32 = 0;
        let mut high: i32 = 8191;
        for _ in 0..13 {
            let middle = low + (high - low) / 2;
            let _ = self.set_upper_mantissa(middle as u16);
            let Some(there) = self.upper_limit() else {
                return false;
            };
            if there < value {
                low = middle;
            } else {
                high = middle;
            }
        }
        let _ = self.set_upper_mantissa(low as u16);
        let Some(one) = self.upper_limit() else {
            return false;
        };
        let _ = self.set_upper_mantissa(high as u16);
        let Some(other) = self.upper_limit() else {
            return false;
        };
        if value - one <= other - value {
            let _ = self.set_upper_mantissa(low as u16);
        }
        true
    }

    /// Sets upper limit as near to a value in lx as UPPER\_MANTISSA and UPPER\_EXPONENT can hold
    /// it.
    ///
    /// Found by search. Out of range, nothing is set and `false` is returned.
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::similar_names
    )]
    #[must_use]
    pub fn set_upper_limit(&mut self, value: f64) -> bool {
        let upper_before = self.upper;
        let mut below = false;
        let mut above = false;
        let mut found = false;
        let mut nearest: f64 = 0.0;
        let mut best_upper_exponent: u8 = 0;
        let mut best_upper_mantissa: u16 = 0;
        for upper_exponent in 0..=7_i32 {
            let _ = self.set_upper_exponent(upper_exponent as u8);
            let _ = self.set_upper_mantissa(0);
            if let Some(first) = self.upper_limit() {
                if first <= value {
                    below = true;
                }
                if first >= value {
                    above = true;
                }
            }
            let _ = self.set_upper_mantissa(8191);
            if let Some(last) = self.upper_limit() {
                if last <= value {
                    below = true;
                }
                if last >= value {
                    above = true;
                }
            }
            let _ = self.near_upper_limit(value);
            if let Some(there) = self.upper_limit() {
                let distance = if there < value {
                    value - there
                } else {
                    there - value
                };
                if !found || distance < nearest {
                    found = true;
                    nearest = distance;
                    best_upper_exponent = upper_exponent as u8;
                    best_upper_mantissa = self.upper >> 3;
                }
            }
        }
        if !(below && above) {
            self.upper = upper_before;
            return false;
        }
        let _ = self.set_upper_exponent(best_upper_exponent);
        let _ = self.set_upper_mantissa(best_upper_mantissa);
        true
    }

    /// The present range of illuminance; 12 if none of them is set.
    #[allow(clippy::cast_possible_truncation)]
    fn illuminance_range(&self) -> u8 {
        match ((self.config >> 1) & 0x0003) as u8 {
            0 => match ((self.config >> 9) & 0x0007) as u8 {
                0 => 11,
                1 => 10,
                2 => 8,
                3 => 5,
                _ => 12,
            },
            1 => match ((self.config >> 9) & 0x0007) as u8 {
                0 => 9,
                1 => 7,
                2 => 4,
                3 => 2,
                _ => 12,
            },
            2 => match ((self.config >> 9) & 0x0007) as u8 {
                0 => 6,
                1 => 3,
                2 => 1,
                3 => 0,
                _ => 12,
            },
            _ => 12,
        }
    }

    /// Sets GAIN and TIME as the next measurement of illuminance needs it: after a saturated
    /// reading the next larger range, and else the smallest of which the last value takes no more
    /// than four fifths. To a smaller range it goes only where it takes less than half of that, so
    /// that a value at the edge does not toggle between two ranges.
    ///
    /// Gives whether anything was changed: then the settings are to be written before the next
    /// measurement. The ranges are those with all other settings as after a reset.
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::similar_names
    )]
    #[must_use]
    pub fn next_range_illuminance(&mut self, last: f64, saturated: bool) -> bool {
        let now = self.illuminance_range();
        let now_top = illuminance_range_top(now);
        let size = if last < 0.0 { -last } else { last };
        let up = saturated || 5.0 * size > 4.0 * now_top;
        let mut next = now;
        let mut widest = now;
        let mut widest_top = now_top;
        let mut best = now_top;
        let mut found = false;
        for row in 0..=11_i32 {
            let top = illuminance_range_top(row as u8);
            let fits = if up {
                top > now_top && (saturated || 4.0 * top > 5.0 * size)
            } else {
                top < now_top && 5.0 * size < 2.0 * top
            };
            if fits && (!found || top < best) {
                found = true;
                best = top;
                next = row as u8;
            }
            if top > widest_top {
                widest_top = top;
                widest = row as u8;
            }
        }
        // No range has room for it: the widest.
        if up && !saturated && !found {
            next = widest;
        }
        match next {
            0 => {
                let _ = self.set_gain(Gain::Fivefold);
                let _ = self.set_time(Time::Ms486);
            }
            1 => {
                let _ = self.set_gain(Gain::Fivefold);
                let _ = self.set_time(Time::Ms162);
            }
            2 => {
                let _ = self.set_gain(Gain::Single);
                let _ = self.set_time(Time::Ms486);
            }
            3 => {
                let _ = self.set_gain(Gain::Fivefold);
                let _ = self.set_time(Time::Ms54);
            }
            4 => {
                let _ = self.set_gain(Gain::Single);
                let _ = self.set_time(Time::Ms162);
            }
            5 => {
                let _ = self.set_gain(Gain::Fifth);
                let _ = self.set_time(Time::Ms486);
            }
            6 => {
                let _ = self.set_gain(Gain::Fivefold);
                let _ = self.set_time(Time::Ms18);
            }
            7 => {
                let _ = self.set_gain(Gain::Single);
                let _ = self.set_time(Time::Ms54);
            }
            8 => {
                let _ = self.set_gain(Gain::Fifth);
                let _ = self.set_time(Time::Ms162);
            }
            9 => {
                let _ = self.set_gain(Gain::Single);
                let _ = self.set_time(Time::Ms18);
            }
            10 => {
                let _ = self.set_gain(Gain::Fifth);
                let _ = self.set_time(Time::Ms54);
            }
            11 => {
                let _ = self.set_gain(Gain::Fifth);
                let _ = self.set_time(Time::Ms18);
            }
            _ => return false,
        }
        next != now
    }

    /// A value that routine measure needs:
    ///
    /// ```text
    /// TIME.ms
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    fn measure_time_3(&self) -> Option<i32> {
        // TIME has no row for it
        let time_ms = time_ms(((self.config >> 9) & 0x0007) as u8)?;
        Some(time_ms)
    }

    /// A value that routine measure needs:
    ///
    /// ```text
    /// 0.5 * TIME.ms
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    fn measure_time_6(&self) -> Option<f64> {
        // TIME has no row for it
        let time_ms = time_ms(((self.config >> 9) & 0x0007) as u8)?;
        Some(0.5 * f64::from(time_ms))
    }
}

impl Default for Settings {
    fn default() -> Self {
        Self::RESET
    }
}

/// The codes of frame LIGHT: 6 bytes.
#[allow(clippy::struct_excessive_bools)] // flags, as the part has them
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LightFrame {
    /// b2 b3.
    pub level: u16,
    /// b4 b5.
    pub warm: u16,
    /// b1\[5\].
    pub done: bool,
    /// b1\[5\].
    pub ready: bool,
    /// b1\[7\].
    pub clipped: bool,
    /// b0\[1\].
    pub too_light: bool,
    /// b0\[3\].
    pub too_dark: bool,
}

impl LightFrame {
    /// Unpacks the bytes of LIGHT.
    ///
    /// Every frame is taken: the sheet has no check for it.
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 6]) -> Option<Self> {
        Some(Self {
            level: (u16::from(bytes[2]) << 8) | u16::from(bytes[3]),
            warm: (u16::from(bytes[4]) << 8) | u16::from(bytes[5]),
            done: ((bytes[1] >> 5) & 0x01) != 0,
            ready: ((bytes[1] >> 5) & 0x01) != 0,
            clipped: (bytes[1] >> 7) != 0,
            too_light: ((bytes[0] >> 1) & 0x01) != 0,
            too_dark: ((bytes[0] >> 3) & 0x01) != 0,
        })
    }

    /// The value of illuminance in lx, or none:
    ///
    /// ```text
    /// level * 8.1 / (GAIN.gain * TIME.ms)
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    fn illuminance_value(&self, settings: &Settings) -> Option<f64> {
        // GAIN has no row for it
        let gain_gain = gain_gain(((settings.config >> 1) & 0x0003) as u8)?;
        // TIME has no row for it
        let time_ms = time_ms(((settings.config >> 9) & 0x0007) as u8)?;
        Some(f64::from(self.level) * 8.1 / (gain_gain * f64::from(time_ms)))
    }

    /// The value of warm in parts of one, or none:
    ///
    /// ```text
    /// warm * 1.0 / TIME.full_scale
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    fn warm_computed(&self, settings: &Settings) -> Option<f64> {
        // TIME has no row for it
        let time_full_scale = time_full_scale(((settings.config >> 9) & 0x0007) as u8)?;
        Some(f64::from(self.warm) * 1.0 / f64::from(time_full_scale))
    }

    /// Whether this holds:
    ///
    /// ```text
    /// level >= TIME.full_scale
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    fn illuminance_condition_1(&self, settings: &Settings) -> Option<bool> {
        // TIME has no row for it
        let time_full_scale = time_full_scale(((settings.config >> 9) & 0x0007) as u8)?;
        Some(i32::from(self.level) >= time_full_scale)
    }

    /// Illuminance in lx.
    ///
    /// Datasheet: section 8.1.
    #[inline]
    #[must_use]
    pub fn illuminance(&self, settings: &Settings) -> Reading {
        let illuminance_condition_1 = self.illuminance_condition_1(settings);
        // valid only while SLEEP = awake
        if (settings.config >> 15) != 0 {
            return Reading::none(Status::Invalid);
        }
        if !self.ready {
            return Reading::none(Status::NotReady);
        }
        if illuminance_condition_1.is_none() {
            return Reading::none(Status::FormulaFault);
        }
        let Some(value) = self.illuminance_value(settings) else {
            return Reading::none(Status::FormulaFault);
        };
        let mut status = Status::Ok;
        if self.clipped || illuminance_condition_1 == Some(true) {
            // the front end was driven to its end
            // the counter is full
            status = Status::Saturated;
        } else if self.too_light || self.too_dark {
            // beyond a limit
            status = Status::Alert;
        }
        Reading::new(value, status)
    }

    /// Whether this holds:
    ///
    /// ```text
    /// warm >= TIME.full_scale
    /// ```
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    fn warm_condition_1(&self, settings: &Settings) -> Option<bool> {
        // TIME has no row for it
        let time_full_scale = time_full_scale(((settings.config >> 9) & 0x0007) as u8)?;
        Some(i32::from(self.warm) >= time_full_scale)
    }

    /// Warm in parts of one.
    ///
    /// Datasheet: section 8.3.
    #[inline]
    #[must_use]
    pub fn warm(&self, settings: &Settings) -> Reading {
        let warm_condition_1 = self.warm_condition_1(settings);
        // valid only while SLEEP = awake
        if (settings.config >> 15) != 0 {
            return Reading::none(Status::Invalid);
        }
        if !self.ready {
            return Reading::none(Status::NotReady);
        }
        if warm_condition_1.is_none() {
            return Reading::none(Status::FormulaFault);
        }
        let Some(value) = self.warm_computed(settings) else {
            return Reading::none(Status::FormulaFault);
        };
        let mut status = Status::Ok;
        if self.clipped || warm_condition_1 == Some(true) {
            // the front end was driven to its end
            status = Status::Saturated;
        } else if self.too_light || self.too_dark {
            // beyond a limit
            status = Status::Alert;
        }
        Reading::new(value, status)
    }

    /// All readings of LIGHT.
    #[inline]
    #[must_use]
    pub fn readings(&self, settings: &Settings) -> LightReadings {
        LightReadings {
            illuminance: self.illuminance(settings),
            warm: self.warm(settings),
        }
    }
}

/// The readings that LIGHT brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LightReadings {
    /// In lx.
    pub illuminance: Reading,
    /// In parts of one.
    pub warm: Reading,
}

impl LightReadings {
    /// Decodes the bytes of LIGHT: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 6], settings: &Settings) -> Option<Self> {
        let light = LightFrame::unpack(bytes)?;
        Some(light.readings(settings))
    }
}

/// The number beside a code of GAIN in column gain, where there is one.
#[must_use]
pub fn gain_gain(code: u8) -> Option<f64> {
    match code {
        0 => Some(0.2),
        1 => Some(1.0),
        2 => Some(5.0),
        _ => None, // no row for it
    }
}

/// The number beside a code of TIME in column ms, where there is one.
#[must_use]
pub fn time_ms(code: u8) -> Option<i32> {
    match code {
        0 => Some(18),
        1 => Some(54),
        2 => Some(162),
        3 => Some(486),
        _ => None, // no row for it
    }
}

/// The number beside a code of TIME in column full\_scale, where there is one.
#[must_use]
pub fn time_full_scale(code: u8) -> Option<i32> {
    match code {
        0 => Some(14_000),
        1 => Some(42_000),
        2 | 3 => Some(65_535),
        _ => None, // no row for it
    }
}

/// The largest value of a range in lx.
fn illuminance_range_top(row: u8) -> f64 {
    match row {
        0 => 218.447,
        1 => 655.34,
        2 => 1092.23,
        3 => 1259.97,
        4 => 3276.7,
        5 => 5461.17,
        6 => 1259.91,
        7 => 6299.85,
        8 => 16_383.5,
        9 => 6299.55,
        10 => 31_499.2,
        11 => 31_497.7,
        _ => 0.0,
    }
}

/// Dose in lx·h, derived from readings, or none:
///
/// ```text
/// before.dose + (illuminance + before.illuminance) / 2 * elapsed / 3600
/// ```
///
/// What is called before\_… is of the frame before, elapsed the seconds since then.
/// After more than 30 min, it stays what it was.
/// It begins with 0.
#[allow(clippy::manual_midpoint)]
#[must_use]
pub fn dose(
    illuminance: f64,
    before_illuminance: f64,
    before_dose: f64,
    elapsed: f64,
) -> Option<f64> {
    let value = before_dose + (illuminance + before_illuminance) / 2.0 * elapsed / 3600.0;
    if !value.is_finite() {
        return None; // not a finite number
    }
    Some(value)
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    /// What its registers hold, and what else is set.
    pub settings: Settings,
    light: LightFrame,
    has_light: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        settings: Settings::RESET,
        light: LightFrame {
            level: 0,
            warm: 0,
            done: false,
            ready: false,
            clipped: false,
            too_light: false,
            too_dark: false,
        },
        has_light: false,
    };

    /// Light as it came last.
    #[must_use]
    pub fn light(&self) -> Option<&LightFrame> {
        self.has_light.then_some(&self.light)
    }

    /// The readings of light as it came last, once all that they need has come.
    #[must_use]
    pub fn light_readings(&self) -> Option<LightReadings> {
        self.has_light.then(|| self.light.readings(&self.settings))
    }
}

impl Default for Device {
    fn default() -> Self {
        Self::RESET
    }
}

/// Why a routine failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Failure {
    /// The part does not acknowledge.
    NoAnswer,
    /// What came is no good frame: a check value does not agree, or nobody answered.
    CheckFailed,
    /// What was waited for did not come in time.
    TimedOut,
    /// What was read is not what was expected: another part, or none.
    Unexpected,
    /// A register reads otherwise than it was written.
    NotTaken,
    /// A formula of the routine has no value with these settings.
    NoValue,
}

/// What a routine asks for next.
#[derive(Debug)]
pub enum Request<'a> {
    /// Bytes are written, then others are read; either may be empty.
    Transfer {
        /// What is written.
        write: &'a [u8],
        /// Where what is read goes.
        read: &'a mut [u8],
    },
    /// So many microseconds pass.
    Wait(u32),
    /// Nothing: it is done.
    Finished,
}

/// A run of routine wake, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct WakeRun {
    at: u8,
    config_written: u16,
    out: [u8; 3],
    buffer: [u8; 2],
}

impl WakeRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            config_written: 0,
            out: [0; 3],
            buffer: [0; 2],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(clippy::cast_possible_truncation)]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let settings = &mut device.settings;
        match self.at {
            0 => {
                // read ID
                self.at = 1;
                Ok(Request::Transfer {
                    write: &[0x30],
                    read: &mut self.buffer[..2],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                settings.id = (u16::from(self.buffer[0]) << 8) | u16::from(self.buffer[1]);
                // expect IDENTITY == 0x4C61
                if settings.id != 19_553 {
                    return Err(Failure::Unexpected);
                }
                // CONFIG: SLEEP = awake
                let config_1 = settings.config & 0x0EE6;
                self.config_written = config_1;
                self.out[0] = 0x12;
                self.out[1] = (config_1 >> 8) as u8;
                self.out[2] = config_1 as u8;
                self.at = 2;
                Ok(Request::Transfer {
                    write: &self.out[..3],
                    read: &mut [],
                })
            }
            2 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                settings.config &= 0x0EE6;
                // compare CONFIG with what was written
                self.at = 3;
                Ok(Request::Transfer {
                    write: &[0x12],
                    read: &mut self.buffer[..2],
                })
            }
            3 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                if ((((u16::from(self.buffer[0]) << 8) | u16::from(self.buffer[1]))
                    ^ self.config_written)
                    & 0xEFFF)
                    != 0
                {
                    return Err(Failure::NotTaken);
                }
                // the oscillator starts
                self.at = 4;
                Ok(Request::Wait(7000))
            }
            4 => {
                self.at = 5;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for WakeRun {
    fn default() -> Self {
        Self::new()
    }
}

/// A run of routine measure, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct MeasureRun {
    at: u8,
    config_written: u16,
    looked: u32,
    out: [u8; 3],
    buffer: [u8; 6],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            config_written: 0,
            looked: 0,
            out: [0; 3],
            buffer: [0; 6],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss,
        clippy::manual_div_ceil,
        clippy::similar_names,
        clippy::too_many_lines
    )]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let settings = &mut device.settings;
        let light = &mut device.light;
        loop {
            match self.at {
                0 => {
                    if (settings.config >> 15) == 0 {
                        self.at = 5;
                        continue;
                    }
                    // read ID
                    self.at = 1;
                    return Ok(Request::Transfer {
                        write: &[0x30],
                        read: &mut self.buffer[..2],
                    });
                }
                1 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    settings.id = (u16::from(self.buffer[0]) << 8) | u16::from(self.buffer[1]);
                    // expect IDENTITY == 0x4C61
                    if settings.id != 19_553 {
                        return Err(Failure::Unexpected);
                    }
                    // CONFIG: SLEEP = awake
                    let config_1 = settings.config & 0x0EE6;
                    self.config_written = config_1;
                    self.out[0] = 0x12;
                    self.out[1] = (config_1 >> 8) as u8;
                    self.out[2] = config_1 as u8;
                    self.at = 2;
                    return Ok(Request::Transfer {
                        write: &self.out[..3],
                        read: &mut [],
                    });
                }
                2 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    settings.config &= 0x0EE6;
                    // compare CONFIG with what was written
                    self.at = 3;
                    return Ok(Request::Transfer {
                        write: &[0x12],
                        read: &mut self.buffer[..2],
                    });
                }
                3 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    if ((((u16::from(self.buffer[0]) << 8) | u16::from(self.buffer[1]))
                        ^ self.config_written)
                        & 0xEFFF)
                        != 0
                    {
                        return Err(Failure::NotTaken);
                    }
                    // the oscillator starts
                    self.at = 4;
                    return Ok(Request::Wait(7000));
                }
                4 => {
                    self.at = 5;
                }
                5 => {
                    // CONFIG: START = 1
                    let config_2 = (settings.config & 0x8EE6) | 0x1000;
                    self.out[0] = 0x12;
                    self.out[1] = (config_2 >> 8) as u8;
                    self.out[2] = config_2 as u8;
                    self.at = 6;
                    return Ok(Request::Transfer {
                        write: &self.out[..3],
                        read: &mut [],
                    });
                }
                6 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    settings.config &= 0x8EE6;
                    let Some(time_3) = settings.measure_time_3() else {
                        return Err(Failure::NoValue);
                    };
                    let micros_4 = (time_3 as u32).wrapping_mul(1000);
                    let longer_5 = micros_4
                        .wrapping_add((micros_4 / 1000).wrapping_mul(150))
                        .wrapping_add((micros_4 % 1000).wrapping_mul(150).wrapping_add(999) / 1000);
                    // wait TIME.ms ms
                    self.at = 7;
                    return Ok(Request::Wait(longer_5));
                }
                7 => {
                    self.looked = 0;
                    self.at = 8;
                }
                8 => {
                    // until done
                    // read LIGHT
                    self.at = 9;
                    return Ok(Request::Transfer {
                        write: &[0x15],
                        read: &mut self.buffer[..2],
                    });
                }
                9 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    // read LIGHT
                    self.at = 10;
                    return Ok(Request::Transfer {
                        write: &[0x21],
                        read: &mut self.buffer[2..6],
                    });
                }
                10 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    let Some(next) = self.buffer.first_chunk().and_then(LightFrame::unpack) else {
                        return Err(Failure::CheckFailed);
                    };
                    *light = next;
                    device.has_light = true;
                    settings.status = (u16::from(self.buffer[0]) << 8) | u16::from(self.buffer[1]);
                    let Some(time_6) = settings.measure_time_6() else {
                        return Err(Failure::NoValue);
                    };
                    let exact_7 = time_6 * 1000.0;
                    let mut micros_8 = exact_7 as u32;
                    if f64::from(micros_8) < exact_7 {
                        micros_8 = micros_8.wrapping_add(1);
                    }
                    if light.done {
                        self.at = 11;
                    } else {
                        if self.looked.wrapping_add(2000) > micros_8 {
                            return Err(Failure::TimedOut);
                        }
                        self.looked = self.looked.wrapping_add(2000);
                        self.at = 8;
                        return Ok(Request::Wait(2000));
                    }
                }
                11 => {
                    self.at = 12;
                    return Ok(Request::Finished);
                }
                _ => return Ok(Request::Finished),
            }
        }
    }
}

impl Default for MeasureRun {
    fn default() -> Self {
        Self::new()
    }
}

/// A run of routine sleep, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct SleepRun {
    at: u8,
    out: [u8; 3],
}

impl SleepRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self { at: 0, out: [0; 3] }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(clippy::cast_possible_truncation)]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let settings = &mut device.settings;
        match self.at {
            0 => {
                // CONFIG: SLEEP = asleep
                let config_1 = (settings.config & 0x0EE6) | 0x8000;
                self.out[0] = 0x12;
                self.out[1] = (config_1 >> 8) as u8;
                self.out[2] = config_1 as u8;
                self.at = 1;
                Ok(Request::Transfer {
                    write: &self.out[..3],
                    read: &mut [],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                settings.config = (settings.config & 0x0EE6) | 0x8000;
                self.at = 2;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for SleepRun {
    fn default() -> Self {
        Self::new()
    }
}

/// Why the driver gave up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Error<E> {
    /// The bus itself failed.
    Bus(E),
    /// The routine failed.
    Failed(Failure),
}

/// The part on a bus.
#[derive(Debug)]
pub struct Driver<I2C, D> {
    i2c: I2C,
    delay: D,
    address: u8,
    /// What is known of the part.
    pub device: Device,
}

impl<I2C, D> Driver<I2C, D>
where
    I2C: embedded_hal::i2c::I2c,
    D: embedded_hal::delay::DelayNs,
{
    /// The part as after a reset.
    pub const fn new(i2c: I2C, delay: D) -> Self {
        Self {
            i2c,
            delay,
            address: I2C_ADDRESS,
            device: Device::RESET,
        }
    }

    /// At another address, as its pins choose it.
    #[must_use]
    pub fn at(self, address: u8) -> Self {
        Self { address, ..self }
    }

    /// The bus and what else it was made from.
    pub fn release(self) -> (I2C, D) {
        (self.i2c, self.delay)
    }

    /// Runs routine wake.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn wake(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = WakeRun::new();
        let mut answered = true;
        loop {
            let request = run
                .step(&mut self.device, answered)
                .map_err(Error::Failed)?;
            if matches!(request, Request::Finished) {
                return Ok(());
            }
            answered = self.serve(request)?;
        }
    }

    /// Runs routine measure.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn measure(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = MeasureRun::new();
        let mut answered = true;
        loop {
            let request = run
                .step(&mut self.device, answered)
                .map_err(Error::Failed)?;
            if matches!(request, Request::Finished) {
                return Ok(());
            }
            answered = self.serve(request)?;
        }
    }

    /// Runs routine sleep.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn sleep(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = SleepRun::new();
        let mut answered = true;
        loop {
            let request = run
                .step(&mut self.device, answered)
                .map_err(Error::Failed)?;
            if matches!(request, Request::Finished) {
                return Ok(());
            }
            answered = self.serve(request)?;
        }
    }

    /// Does what a routine asks for; `false` where the part does not answer.
    fn serve(&mut self, request: Request<'_>) -> Result<bool, Error<I2C::Error>> {
        match request {
            Request::Transfer { write, read } => {
                let done = if read.is_empty() {
                    self.i2c.write(self.address, write)
                } else if write.is_empty() {
                    self.i2c.read(self.address, read)
                } else {
                    self.i2c.write_read(self.address, write, read)
                };
                match done {
                    Ok(()) => Ok(true),
                    Err(error) => match embedded_hal::i2c::Error::kind(&error) {
                        embedded_hal::i2c::ErrorKind::NoAcknowledge(_) => Ok(false),
                        _ => Err(Error::Bus(error)),
                    },
                }
            }
            Request::Wait(micros) => {
                self.delay.delay_us(micros);
                Ok(true)
            }
            Request::Finished => Ok(true),
        }
    }
}
