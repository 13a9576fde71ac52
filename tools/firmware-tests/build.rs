//! Emits every demo part in every form, with its test.

use std::fmt::Write;
use std::path::Path;
use std::{env, fs};

use yemdo::emit::{FirmwareOptions, Hal, Language, Only, Reals, firmware, vector_records, vectors};

fn main() {
    let out = env::var("OUT_DIR").unwrap();
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../sheets");
    println!("cargo::rerun-if-changed={}", sheets.display());
    println!("cargo::rerun-if-env-changed=VECTORS");
    let count = env::var("VECTORS").ok().and_then(|count| count.parse().ok()).unwrap_or(2000);
    let mut names: Vec<String> =
        fs::read_dir(&sheets).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    let mut forms = String::new();
    let mut checks = String::from("/// The test of a module.\npub type Check = fn() -> Result<usize, usize>;\n/// Every module with its test.\npub const CHECKS: &[(&str, Check)] = &[\n");
    for (form, reals, hal) in
        [("double", Reals::Double, Hal::Blocking), ("single", Reals::Single, Hal::Async), ("integer", Reals::Integer, Hal::None)]
    {
        writeln!(forms, "/// Real numbers: {form}.\npub mod {form} {{").unwrap();
        for name in &names {
            let part = yemdo::Part::parse(name, &fs::read_to_string(sheets.join(name)).unwrap()).unwrap();
            let mut options = FirmwareOptions::default().reals(reals).hal(hal);
            // What cannot do without real numbers is left out.
            if reals == Reals::Integer {
                let able = |id: &yemdo::ReadingId| {
                    let only = Only::These { readings: vec![*id], routines: Vec::new() };
                    firmware(&part, Language::Rust, &options.clone().only(only)).is_ok()
                };
                let readings: Vec<_> = part.readings().ids().filter(|id| part.readings().get(*id).unwrap().is_measured()).collect();
                if !readings.iter().all(able) {
                    let readings = readings.into_iter().filter(able).collect();
                    options = options.only(Only::These { readings, routines: part.routines().ids().collect() });
                }
            }
            let files = firmware(&part, Language::Rust, &options).unwrap_or_else(|error| panic!("{error}"));
            let tests = vectors(&part, Language::Rust, &options, 7, 20).unwrap_or_else(|error| panic!("{error}"));
            let records = vector_records(&part, &options, 8, count).unwrap_or_else(|error| panic!("{error}"));
            for file in files.into_iter().chain(tests) {
                let path = format!("{out}/{form}_{}", file.name);
                fs::write(&path, file.text).unwrap();
                let module = file.name.trim_end_matches(".rs");
                writeln!(forms, "    /// Emitted.\n    pub mod {module} {{\n        include!({path:?});\n    }}").unwrap();
                if module.ends_with("_vectors") {
                    let path = format!("{out}/{form}_{module}.bin");
                    fs::write(&path, &records).unwrap();
                    writeln!(checks, "    (\"{form} {module}\", || {form}::{module}::check(include_bytes!({path:?}))),").unwrap();
                }
            }
        }
        forms.push_str("}\n");
    }
    fs::write(format!("{out}/all.rs"), forms + &checks + "];\n").unwrap();
}
