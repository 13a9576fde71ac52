//! Reading status.

/// Status of a reading.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[non_exhaustive]
pub enum Status {
    /// A good value.
    #[default]
    Ok = 0,
    /// A good value; the part signals an alert.
    Alert,
    /// Outside the range that the datasheet states.
    OutOfRange,
    /// The part has reached the end of its range; the value is a bound.
    Saturated,
    /// The part had nothing new to say. No value.
    NotReady,
    /// The part says that this is no measurement. No value.
    Invalid,
    /// The part reports that it is faulty. No value.
    PartFault,
    /// The formula ran into something that C leaves undefined. No value.
    FormulaFault,
    /// Another frame that it needs has not come yet. No value.
    Waiting,
    /// The frame ends before it. No value.
    Absent,
}

impl Status {
    /// All of them, in order.
    pub const ALL: [Status; 10] = [
        Status::Ok,
        Status::Alert,
        Status::OutOfRange,
        Status::Saturated,
        Status::NotReady,
        Status::Invalid,
        Status::PartFault,
        Status::FormulaFault,
        Status::Waiting,
        Status::Absent,
    ];

    /// The word for it, in sheets and output.
    pub fn as_str(self) -> &'static str {
        match self {
            Status::Ok => "ok",
            Status::Alert => "alert",
            Status::OutOfRange => "out of range",
            Status::Saturated => "saturated",
            Status::NotReady => "not ready",
            Status::Invalid => "invalid",
            Status::PartFault => "fault",
            Status::FormulaFault => "formula fault",
            Status::Waiting => "waiting",
            Status::Absent => "absent",
        }
    }

    /// The status of that word.
    pub fn from_name(word: &str) -> Option<Status> {
        Self::ALL.into_iter().find(|status| status.as_str() == word)
    }

    /// Whether a value comes with it.
    pub fn has_value(self) -> bool {
        (self as u8) <= Status::Saturated as u8
    }
}
