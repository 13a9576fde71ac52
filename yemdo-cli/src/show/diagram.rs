//! Bits side by side, in groups of four.

/// Bits of a register, the highest first, each printed by `cell`.
pub(crate) fn bits(width: usize, cell: &dyn Fn(usize) -> String) -> String {
    let group = |bit: usize| if bit.is_multiple_of(4) && bit != 0 { " " } else { "" };
    (0..width).rev().map(|bit| format!("{}{}", cell(bit), group(bit))).collect()
}

/// The bits' numbers: the tens, where there are some, and the ones below.
pub(crate) fn numbers(width: usize) -> Vec<String> {
    let tens = bits(width, &|bit| if bit >= 10 { (bit / 10).to_string() } else { " ".into() });
    let ones = bits(width, &|bit| (bit % 10).to_string());
    if width > 8 { vec![tens.trim_end().to_owned(), ones] } else { vec![ones] }
}

/// The bits of a value.
pub(crate) fn value(width: usize, value: u64) -> String {
    bits(width, &|bit| (value >> bit & 1).to_string())
}
