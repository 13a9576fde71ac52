//! Units: conversion between those of one dimension, and their codes in UCUM and SenML.
//!
//! UCUM codes are those of the Unified Code for Units of Measure (case sensitive), SenML codes those of RFC 8428,
//! section 12.1, and RFC 8798.

/// A unit that is known here.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Unit {
    /// The symbol that is printed.
    pub symbol: &'static str,
    /// Other ways to type it.
    pub also: &'static [&'static str],
    /// What it measures; units of the same dimension can be converted into one another.
    pub dimension: &'static str,
    /// A value in the dimension's base unit is `value * scale + offset`.
    scale: f64,
    offset: f64,
    /// The UCUM code.
    pub ucum: &'static str,
    /// The SenML code, where there is one.
    pub senml: Option<&'static str>,
}

const fn unit(
    symbol: &'static str,
    also: &'static [&'static str],
    dimension: &'static str,
    scale: f64,
    ucum: &'static str,
    senml: Option<&'static str>,
) -> Unit {
    Unit { symbol, also, dimension, scale, offset: 0.0, ucum, senml }
}

/// The units that are known here.
pub const UNITS: &[Unit] = &[
    Unit {
        symbol: "°C",
        also: &["degC", "C", "Cel"],
        dimension: "temperature",
        scale: 1.0,
        offset: 273.15,
        ucum: "Cel",
        senml: Some("Cel"),
    },
    Unit {
        symbol: "°F",
        also: &["degF", "F"],
        dimension: "temperature",
        scale: 5.0 / 9.0,
        offset: 273.15 - 32.0 * 5.0 / 9.0,
        ucum: "[degF]",
        senml: None,
    },
    unit("K", &[], "temperature", 1.0, "K", Some("K")),
    unit("Pa", &[], "pressure", 1.0, "Pa", Some("Pa")),
    unit("hPa", &[], "pressure", 100.0, "hPa", Some("hPa")),
    unit("mbar", &[], "pressure", 100.0, "mbar", None),
    unit("kPa", &[], "pressure", 1e3, "kPa", None),
    unit("bar", &[], "pressure", 1e5, "bar", None),
    unit("psi", &[], "pressure", 6894.757293168361, "[psi]", None),
    unit("mmHg", &[], "pressure", 133.322387415, "mm[Hg]", None),
    unit("m/s²", &["m/s2", "m/s^2"], "acceleration", 1.0, "m/s2", Some("m/s2")),
    unit("g", &[], "acceleration", 9.80665, "[g]", None),
    unit("mg", &[], "acceleration", 9.80665e-3, "m[g]", None),
    unit("°/s", &["deg/s", "dps"], "rate of turn", 1.0, "deg/s", None),
    unit("rad/s", &[], "rate of turn", 57.295_779_513_082_32, "rad/s", Some("rad/s")),
    unit("%", &["%RH"], "ratio", 0.01, "%", Some("/100")),
    unit("1", &[""], "ratio", 1.0, "1", Some("/")),
    unit("ppm", &[], "ratio", 1e-6, "[ppm]", Some("ppm")),
    unit("lx", &[], "illuminance", 1.0, "lx", Some("lx")),
    unit("klx", &[], "illuminance", 1e3, "klx", None),
    unit("V", &[], "voltage", 1.0, "V", Some("V")),
    unit("mV", &[], "voltage", 1e-3, "mV", Some("mV")),
    unit("µV", &["uV"], "voltage", 1e-6, "uV", None),
    unit("A", &[], "current", 1.0, "A", Some("A")),
    unit("mA", &[], "current", 1e-3, "mA", Some("mA")),
    unit("µA", &["uA"], "current", 1e-6, "uA", None),
    unit("W", &[], "power", 1.0, "W", Some("W")),
    unit("mW", &[], "power", 1e-3, "mW", Some("mW")),
    unit("kW", &[], "power", 1e3, "kW", Some("kW")),
    unit("J", &[], "energy", 1.0, "J", Some("J")),
    unit("Wh", &[], "energy", 3600.0, "W.h", Some("Wh")),
    unit("kWh", &[], "energy", 3.6e6, "kW.h", Some("kWh")),
    unit("Ω", &["ohm", "Ohm"], "resistance", 1.0, "Ohm", Some("Ohm")),
    unit("mΩ", &["mohm", "mOhm"], "resistance", 1e-3, "mOhm", None),
    unit("kΩ", &["kohm"], "resistance", 1e3, "kOhm", None),
    unit("m", &[], "length", 1.0, "m", Some("m")),
    unit("mm", &[], "length", 1e-3, "mm", Some("mm")),
    unit("cm", &[], "length", 1e-2, "cm", Some("cm")),
    unit("km", &[], "length", 1e3, "km", Some("km")),
    unit("ft", &[], "length", 0.3048, "[ft_i]", None),
    unit("m/s", &[], "speed", 1.0, "m/s", Some("m/s")),
    unit("km/h", &[], "speed", 1.0 / 3.6, "km/h", Some("km/h")),
    unit("m³/h", &["m3/h"], "flow", 1.0 / 3600.0, "m3/h", None),
    unit("m³/s", &["m3/s"], "flow", 1.0, "m3/s", Some("m3/s")),
    unit("l/min", &["L/min"], "flow", 1.0 / 60_000.0, "L/min", None),
    unit("s", &[], "time", 1.0, "s", Some("s")),
    unit("ms", &[], "time", 1e-3, "ms", Some("ms")),
    unit("min", &[], "time", 60.0, "min", Some("min")),
    unit("h", &[], "time", 3600.0, "h", Some("h")),
    unit("Hz", &[], "frequency", 1.0, "Hz", Some("Hz")),
    unit("kHz", &[], "frequency", 1e3, "kHz", None),
    unit("N", &[], "force", 1.0, "N", Some("N")),
    unit("kN", &[], "force", 1e3, "kN", None),
    unit("Nm", &["N·m", "N m"], "torque", 1.0, "N.m", None),
    unit("T", &[], "magnetic field", 1.0, "T", Some("T")),
    unit("µT", &["uT"], "magnetic field", 1e-6, "uT", None),
    unit("dB", &[], "level", 1.0, "dB", Some("dB")),
    unit("°", &["deg"], "angle", 1.0, "deg", None),
    unit("rad", &[], "angle", 57.295_779_513_082_32, "rad", Some("rad")),
];

impl Unit {
    /// The unit of a symbol, or of one of the other ways to type it.
    pub fn find(symbol: &str) -> Option<&'static Unit> {
        UNITS.iter().find(|unit| unit.symbol == symbol).or_else(|| UNITS.iter().find(|unit| unit.also.contains(&symbol)))
    }

    /// A value of this unit in another of the same dimension; `None` across dimensions.
    ///
    /// ```
    /// use yemdo::units::Unit;
    /// let (celsius, fahrenheit) = (Unit::find("°C").unwrap(), Unit::find("°F").unwrap());
    /// assert!((celsius.to(fahrenheit, 100.0).unwrap() - 212.0).abs() < 1e-9);
    /// assert_eq!(celsius.to(Unit::find("hPa").unwrap(), 100.0), None);
    /// ```
    pub fn to(&self, other: &Unit, value: f64) -> Option<f64> {
        (self.dimension == other.dimension).then(|| (value * self.scale + self.offset - other.offset) / other.scale)
    }

    /// A difference in this unit as one in another of the same dimension: where the units count from does not matter.
    ///
    /// ```
    /// use yemdo::units::Unit;
    /// let (kelvin, celsius) = (Unit::find("K").unwrap(), Unit::find("°C").unwrap());
    /// assert_eq!(kelvin.difference_to(celsius, 2.0), Some(2.0));
    /// ```
    pub fn difference_to(&self, other: &Unit, value: f64) -> Option<f64> {
        (self.dimension == other.dimension).then(|| value * self.scale / other.scale)
    }

    /// Decimals that show as much in another unit as so many do in this one.
    pub fn decimals_in(&self, other: &Unit, decimals: usize) -> usize {
        let more = (other.scale / self.scale).log10().ceil();
        (decimals as f64 + more).clamp(0.0, 9.0) as usize
    }
}
