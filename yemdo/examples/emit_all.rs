//! Scratch.
fn main() {
    let args: Vec<String> = std::env::args().collect();
    let out = &args[1];
    let reals = match args[2].as_str() {
        "float" => yemdo::emit::Reals::Single,
        "none" => yemdo::emit::Reals::Integer,
        _ => yemdo::emit::Reals::Double,
    };
    for sheet in &args[3..] {
        let text = std::fs::read_to_string(sheet).unwrap();
        let part = yemdo::Part::parse(sheet, &text).unwrap();
        for language in [yemdo::emit::Language::C, yemdo::emit::Language::Rust] {
            match yemdo::emit::firmware(&part, language, &yemdo::emit::Options { reals, ..Default::default() }) {
                Ok(files) => {
                    for file in files {
                        std::fs::write(format!("{out}/{}", file.name), file.text).unwrap();
                    }
                }
                Err(error) => println!("{sheet}: {error}"),
            }
            if let Ok(files) = yemdo::emit::vectors(&part, language, &yemdo::emit::Options { reals, ..Default::default() }, 1, 2000) {
                for file in files {
                    std::fs::write(format!("{out}/{}", file.name), file.text).unwrap();
                }
            }
        }
    }
}
