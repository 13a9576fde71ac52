//! Emitted Python against the decoder, in the interpreter of this machine; without one, the texts alone. Other interpreters, formatter, types and
//! drivers: `tools/python`.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use yemdo::Part;
use yemdo::emit::{EmitError, Emitted, FirmwareOptions, Hal, Language, Reals, firmware, vectors};

fn folder(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("python").join(name);
    fs::create_dir_all(&folder).unwrap();
    folder
}

/// Runs a program in a folder: its exit and its output. `None` without an interpreter.
fn python(folder: &Path, program: &str) -> Option<(bool, String)> {
    let done = Command::new("python3").current_dir(folder).args(["-B", "-W", "error", "-c", program]).output().ok()?;
    Some((done.status.success(), String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr)))
}

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

fn emit(part: &Part, options: &FirmwareOptions, folder: &Path) -> Vec<String> {
    let files = firmware(part, Language::Python, options).unwrap_or_else(|error| panic!("{error}"));
    files.into_iter().map(|Emitted { name, text }| fs::write(folder.join(&name), &text).map(|()| text).unwrap()).collect()
}

#[test]
fn all_parts_agree_with_the_decoder_and_a_wrong_constant_does_not() {
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets");
    let mut paths: Vec<PathBuf> = fs::read_dir(sheets).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    for reals in [Reals::Double, Reals::Single] {
        let folder = folder(&format!("{reals:?}"));
        let options = FirmwareOptions::default().reals(reals);
        let mut program = String::new();
        for path in &paths {
            let part = part(&fs::read_to_string(path).unwrap());
            emit(&part, &options, &folder);
            let tests = vectors(&part, Language::Python, &options, 3, 200).unwrap();
            let module = tests[0].name.trim_end_matches(".py").to_owned();
            fs::write(folder.join(&tests[0].name), &tests[0].text).unwrap();
            program += &format!("import {module}; assert {module}.check() >= 200\n");
        }
        program += &format!("print('agree', {})", paths.len());
        let Some((done, told)) = python(&folder, &program) else { return };
        assert!(done && told.trim() == format!("agree {}", paths.len()), "{told}");
        // The test can fail.
        let module = fs::read_to_string(folder.join("thole_9.py")).unwrap();
        let wrong = module.replacen("self.temperature = temperature", "self.temperature = temperature ^ 1", 1);
        assert_ne!(module, wrong);
        fs::write(folder.join("thole_9.py"), wrong).unwrap();
        let (done, told) = python(&folder, "import thole_9_vectors; thole_9_vectors.check()").unwrap();
        assert!(!done && told.contains("does not agree"), "{told}");
    }
}

/// The tokens of a module outside of strings and comments.
const TOKENS: &str = "
import sys, tokenize
for token in tokenize.generate_tokens(open(sys.argv[1] if len(sys.argv) > 1 else 'p_1.py').readline):
    if token.type not in (tokenize.COMMENT, tokenize.STRING, tokenize.NL):
        print(token.type, token.string.strip())
";

#[test]
fn texts_of_a_sheet_never_become_code() {
    let sheet = |text: &str| {
        part(&format!(
            "part = \"p-1\"\ntitle = {text}\nsource = {text}\ni2c.address = 0x61\n[register.MODE]\nat = 1\nmeans = {text}\n\
             field.RUN = {{ bits = \"[1:0]\", means = {text}, values = [{{ code = 0, name = \"off\", means = {text} }}, {{ code = 1, name = \"on\" }}] }}\n\
             [frame.F]\nread = 2\nmeans = {text}\ncode = {{ a = \"b0\", b = \"b1\" }}\nstatus = [{{ when = \"b == 9\", is = \"invalid\", means = {text} }}]\n\
             [reading.x]\nunit = \"m\"\nmeans = {text}\nformula = \"a * 0.5\"\n[[routine.measure]]\nset = {{ RUN = \"on\" }}\nmeans = {text}\n[[routine.measure]]\nread = \"F\"\n"
        ))
    };
    let plain = folder("plain");
    emit(&sheet("\"plain\""), &FirmwareOptions::default(), &plain);
    let Some((true, wanted)) = python(&plain, TOKENS) else { return };
    let texts = [
        r#""\\""#,
        r#""ends with a quote\"""#,
        r#""\"\"\"\nimport os\n\"\"\"""#,
        r#""line\nimport os""#,
        r#""return\rimport os\r\nimport os""#,
        r#""\u2028import os \u2029 \\\" \\N{BULLET} \\x00 {0} %s""#,
        r#""\"\"\" + __import__('os') + \"\"\"""#,
    ];
    for (at, text) in texts.into_iter().enumerate() {
        let part = sheet(text);
        let hostile = folder(&format!("hostile-{at}"));
        emit(&part, &FirmwareOptions::default(), &hostile);
        let (done, found) = python(&hostile, TOKENS).unwrap();
        assert!(done && found == wanted, "{text}: {found}");
        let (done, told) = python(&hostile, "import p_1; print(p_1.f_decode(bytes([4, 0])).x)").unwrap();
        assert!(done && told.trim() == "Reading(2.0, ok)", "{text}: {told}");
    }
}

#[test]
fn nasty_names_are_names_and_clashes_are_told() {
    let text = r#"
part = "import"
i2c.address = 0x61
[register.SELF]
at = 1
field = { lambda = { bits = "[1:0]" }, None = { bits = "[3:2]", values = [{ code = 0, name = "True" }, { code = 1, name = "def" }, { code = 2, name = "3 V" }] }, range = { bits = "[7:4]" } }
[frame.bytes]
read = 3
code = { from = "b0", pass = "b1", len = "signed b2" }
[frame.Device]
registers = "SELF"
[reading.is]
unit = "m"
formula = "from * 256 + pass"
[reading.from]
unit = "m"
formula = "len * 0.5 + range"
[parameter.float_]
default = 2
[reading.with]
unit = "m"
formula = "is + float_"
[[routine.del]]
read = "bytes"
[[routine.yield]]
set = { lambda = 2 }
"#;
    let folder = folder("names");
    let module = emit(&part(text), &FirmwareOptions::default().hal(Hal::Async), &folder).remove(0);
    let tests = vectors(&part(text), Language::Python, &FirmwareOptions::default(), 3, 50).unwrap();
    fs::write(folder.join(&tests[0].name), &tests[0].text).unwrap();
    assert!(module.contains("async def del_(self)") && module.contains("TRUE = 0") && module.contains("V_3 = 2"), "{module}");
    if let Some((done, told)) = python(&folder, "import import__vectors as v; print(v.check())") {
        assert!(done && told.trim().parse::<u32>().is_ok_and(|count| count >= 50), "{told}");
    }
    let clash = "part = \"p-1\"\ni2c.address = 0x61\nregister.RUN = { at = 1, field.MODE = { bits = \"[7:0]\" } }\n\
                 register.SET_MODE = { at = 2, field.X = { bits = \"[7:0]\" } }\n";
    let EmitError { reasons, .. } = firmware(&part(clash), Language::Python, &FirmwareOptions::default()).unwrap_err();
    assert!(matches!(reasons.as_slice(), [one] if one.contains("both become `set_mode` in Python")), "{reasons:?}");
}

/// The example of the documents, with a bus that answers.
const BOARD: &str = "
import sys, types
class I2C:
    def __init__(self, number):
        assert number == 0
    def writeto(self, address, data, stop=True):
        assert address == 0x51
    def readfrom_into(self, address, into):
        into[:] = bytes([0x10, 0x68, 0x87])
sys.modules['machine'] = types.SimpleNamespace(I2C=I2C)
";

#[test]
fn the_example_of_the_documents_runs() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let text = fs::read_to_string(root.join("docs/firmware.md")).unwrap();
    let example = text.split("```python\n").nth(1).unwrap().split("```").next().unwrap();
    let folder = folder("example");
    let thole = part(&fs::read_to_string(root.join("sheets/thole-9.toml")).unwrap());
    emit(&thole, &FirmwareOptions::default(), &folder);
    if let Some((done, told)) = python(&folder, &format!("{BOARD}{example}")) {
        assert!(done && told == "21.0 °C\n", "{told}");
    }
}

#[test]
fn other_frames_do_not_use_a_frame_that_is_not_valid() {
    let text = r#"
part = "p-1"
i2c.address = 0x61
[register.MODE]
at = 1
reset = 0x01
field.RUN = { bits = "[0]", values = [{ code = 0, name = "off" }, { code = 1, name = "on" }] }
[frame.ZERO]
read = 1
command = [0x10]
while = { RUN = "on" }
code = { offset = "b0" }
[frame.DATA]
read = 1
command = [0x20]
code = { level = "b0" }
[reading.depth]
unit = "m"
formula = "level - offset"
[[routine.stop]]
set = { RUN = "off" }
[[routine.zero]]
read = "ZERO"
[[routine.measure]]
read = "DATA"
"#;
    let folder = folder("while");
    emit(&part(text), &FirmwareOptions::default(), &folder);
    let program = "
import p_1
def transfer(address, write, read):
    if read is not None:
        read[:] = b'\\x05' if write == b'\\x10' else b'\\x09'
    return True
driver = p_1.Driver(transfer)
driver.zero(); driver.measure()
print(driver.device.data_readings().depth)
driver.stop(); driver.zero(); driver.measure()
print(driver.device.data_readings())
";
    if let Some((done, told)) = python(&folder, program) {
        assert!(done && told == "Reading(4.0, ok)\nNone\n", "{told}");
    }
}
