//! Random choices, drawn from bytes: the same bytes make the same sheet, and fewer or smaller bytes a simpler one.

use arbitrary::Unstructured;

/// Draws choices from bytes; after the last byte, every choice is the first and simplest one.
pub struct Choices<'b>(Unstructured<'b>);

impl<'b> Choices<'b> {
    /// Choices from these bytes.
    pub fn new(bytes: &'b [u8]) -> Self {
        Self(Unstructured::new(bytes))
    }

    /// A number from `low` to `high`; `low` after the last byte.
    pub fn within(&mut self, low: i128, high: i128) -> i128 {
        self.0.int_in_range(low..=high.max(low)).unwrap_or(low)
    }

    /// A number below `count`, which is at least 1.
    pub fn below(&mut self, count: usize) -> usize {
        usize::try_from(self.within(0, count.max(1) as i128 - 1)).unwrap_or(0)
    }

    /// True in `percent` of the cases; false after the last byte.
    pub fn chance(&mut self, percent: i128) -> bool {
        self.within(0, 99) >= 100 - percent
    }

    /// One of a list, which is not empty.
    pub fn pick<'l, T>(&mut self, list: &'l [T]) -> &'l T {
        &list[self.below(list.len())]
    }

    /// One of a list; `None` if it is empty.
    pub fn any<'l, T>(&mut self, list: &'l [T]) -> Option<&'l T> {
        if list.is_empty() { None } else { Some(self.pick(list)) }
    }

    /// A number of `width` bits, often at an end of its range.
    pub fn bits(&mut self, width: u32) -> u64 {
        let mask = u64::MAX >> (64 - width.clamp(1, 64));
        match self.below(5) {
            0 => 0,
            1 => mask,
            2 => self.within(0, 15) as u64 & mask,
            _ => self.within(0, i128::from(mask)) as u64,
        }
    }

    /// Random bytes; zeros after the last one.
    pub fn bytes(&mut self, count: usize) -> Vec<u8> {
        (0..count).map(|_| self.0.arbitrary::<u8>().unwrap_or(0)).collect()
    }

    /// True after the last byte.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// The bytes of a seed.
pub fn bytes_of(seed: u64, count: usize) -> Vec<u8> {
    let mut random = yemdo::stand_in::Random::new(seed.wrapping_mul(0x2545_F491_4F6C_DD1D));
    (0..count.div_ceil(8)).flat_map(|_| random.bits().to_le_bytes()).take(count).collect()
}
