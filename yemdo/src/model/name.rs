//! Names that a part does not have, and what may have been meant.

use std::fmt;

use crate::ground::suggest;

/// Kinds of things that have names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
#[allow(missing_docs)] // self-explanatory
pub enum Kind {
    Frame,
    Reading,
    Register,
    Field,
    Quantity,
    Parameter,
    Routine,
    /// Anything that can be set: a field, a quantity or a parameter.
    Setting,
}

impl Kind {
    /// One of them, and several, in words.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            Kind::Frame => ("frame", "frames"),
            Kind::Reading => ("reading", "readings"),
            Kind::Register => ("register", "registers"),
            Kind::Field => ("field", "fields"),
            Kind::Quantity => ("quantity", "quantities"),
            Kind::Parameter => ("parameter", "parameters"),
            Kind::Routine => ("routine", "routines"),
            Kind::Setting => ("field, quantity or parameter", "fields, quantities and parameters"),
        }
    }
}

/// A part has nothing of that name.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct UnknownName {
    /// Name of the part.
    pub part: String,
    /// Kind of the name.
    pub kind: Kind,
    /// The name.
    pub name: String,
    /// The names that there are.
    pub known: Vec<String>,
    /// Where several have that name, the ways to tell them apart.
    pub ways: Vec<String>,
    /// It is a derived quantity, and readings are meant that come from codes.
    pub is_derived: bool,
}

impl UnknownName {
    /// Description.
    pub fn message(&self) -> String {
        let (one, several) = self.kind.words();
        if self.is_derived {
            format!("`{}` of {} is derived from readings, and has no code of its own", self.name, self.part)
        } else if self.ways.is_empty() {
            format!("{} has no {one} `{}`", self.part, self.name)
        } else {
            format!("{} has several {several} `{}`", self.part, self.name)
        }
    }

    /// What to try.
    pub fn help(&self) -> String {
        let (_, several) = self.kind.words();
        if !self.ways.is_empty() {
            return format!("write {}", self.ways.join(" or "));
        }
        match suggest::nearest(&self.name, self.known.iter().map(String::as_str)) {
            Some(near) => format!("did you mean `{near}`?"),
            None if self.known.is_empty() && self.kind == Kind::Setting => "the sheet describes nothing that can be set".into(),
            None if self.known.is_empty() => format!("the sheet describes no {several}"),
            None => format!("its {several}: {}", suggest::one_of(self.known.iter().map(String::as_str))),
        }
    }
}

impl fmt::Display for UnknownName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}; {}", self.message(), self.help())
    }
}

impl std::error::Error for UnknownName {}
