//! Makes the module of the frost guard from its sheet.

use std::path::Path;
use std::{env, fs};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    println!("cargo::rerun-if-changed=thole-9.toml");
    let sheet = fs::read_to_string("thole-9.toml")?;
    let module = yemdo::emit::rust_module("thole-9.toml", &sheet, &yemdo::emit::FirmwareOptions::default())?;
    fs::write(Path::new(&env::var("OUT_DIR")?).join("thole_9.rs"), module)?;
    Ok(())
}
