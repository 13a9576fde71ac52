//! Makes what shows a difference small.

/// The smallest bytes found for which `shows` still holds, in at most `tries` tries.
pub fn shrink(bytes: &[u8], mut tries: usize, mut shows: impl FnMut(&[u8]) -> bool) -> Vec<u8> {
    let mut best = bytes.to_vec();
    let mut piece = best.len().next_power_of_two() / 2;
    while piece > 0 {
        let mut at = 0;
        while at < best.len() {
            let end = (at + piece).min(best.len());
            // First without these bytes, then with zeros in their place.
            let mut without = best.clone();
            without.drain(at..end);
            let mut zeroed = best.clone();
            zeroed[at..end].fill(0);
            let smaller = [without, zeroed].into_iter().find(|smaller| {
                tries = tries.saturating_sub(1);
                *smaller != best && tries > 0 && shows(smaller)
            });
            match smaller {
                Some(smaller) if smaller.len() < best.len() => best = smaller,
                Some(smaller) => {
                    best = smaller;
                    at = end;
                }
                None => at = end,
            }
        }
        piece /= 2;
    }
    best
}
