//! Random sheets by the thousand: see `--help`.
#![allow(clippy::print_stdout, clippy::print_stderr)]
use yemdo_agree::choices::{Choices, bytes_of};
use yemdo_agree::sheet;
fn main() {
    let args: Vec<u64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    let (from, count) = (args[0], args[1]);
    let mut bad = 0;
    for seed in from..from + count {
        let bytes = bytes_of(seed, 4096);
        let text = sheet::random(&mut Choices::new(&bytes));
        if count == 1 { println!("{text}"); }
        if let Err(error) = yemdo::Part::parse("sheet.toml", &text) {
            bad += 1;
            if bad < 15 { println!("seed {seed}: {}", error.to_string().lines().take(14).collect::<Vec<_>>().join("\n")); }
        }
    }
    println!("{bad} of {count} refused");
}
