//! Emitted routines against the library's: the same operations on the bus in the same order, also when a transfer is not acknowledged.

use yemdo::bus::Bus;
use yemdo::routine::{Answer, Operation, Runner};
use yemdo::stand_in::StandIn;
use yemdo::{Part, RoutineId, State};
use yemdo_bus::{Port, Rig};

/// Operations after which a run is given up.
const MOST: usize = 120;

/// The longest chain of operations in which one is made to fail.
const FAILING: usize = 4;

/// What the step functions of a module are called.
struct Step<'t> {
    function: &'t str,
    run: &'t str,
}

/// The functions of a header that run routines step by step, in the order of the sheet.
fn steps(header: &str) -> Vec<Step<'_>> {
    let step = |(at, call): (usize, &str)| {
        let function = header[..at].rsplit(char::is_whitespace).next()?;
        let run = header[at + call.len()..].split_whitespace().next().filter(|word| word.ends_with("_run_t"))?;
        Some(Step { function, run })
    };
    header.match_indices("_step(").filter_map(step).collect()
}

/// A run of a routine at a stand-in, as bytes for the program in C: what was done, and what came. `None` where it takes no end.
fn script(part: &Part, routine: RoutineId, bus: Bus, fails: Option<usize>) -> Option<(Vec<u8>, usize)> {
    let rig = Rig::new();
    let place = rig.add(StandIn::new(part, 1).ok()?);
    let mut port = rig.port(place, bus);
    // Emitted code begins with zeros where the sheet states no reset value.
    let mut start = State::reset(part);
    for register in part.registers().iter().filter(|register| start.known_register(register).is_none()).collect::<Vec<_>>() {
        start.set_register(register, start.register(register));
    }
    let mut runner = Runner::new(part, routine, start).ok()?.on_bus(bus, None).ok()?;
    let mut script = Vec::new();
    let mut request = runner.start();
    let mut count = 0;
    while let Ok(Some(asked)) = &request {
        if count == MOST {
            return None;
        }
        let answered = Some(count) != fails;
        count += 1;
        let length = |bytes: &[u8]| u16::try_from(bytes.len()).unwrap().to_be_bytes();
        request = match &asked.operation {
            Operation::Transfer(transfer) => {
                let answer = if answered { port.transfer(transfer).ok() } else { None };
                let came = answer.clone().unwrap_or_else(|| vec![0; transfer.receive]);
                let mut one = |send: &[u8], came: &[u8]| {
                    script.extend([0, u8::from(answer.is_some())]);
                    script.extend(length(send));
                    script.extend(send);
                    script.extend(length(came));
                    script.extend(came);
                };
                // With a stop between them, writing and reading are two transfers.
                if transfer.bus == Bus::I2c && !transfer.restart && !transfer.send.is_empty() && !came.is_empty() {
                    one(&transfer.send, &[]);
                    if answer.is_some() {
                        one(&[], &came);
                    }
                } else {
                    one(&transfer.send, &came);
                }
                runner.answer(answer.as_deref().map_or(Answer::Nak, Answer::Bytes))
            }
            Operation::Wait(micros) => {
                port.wait(*micros);
                script.extend([1, 1]);
                script.extend(u32::try_from(*micros).ok()?.to_be_bytes());
                runner.answer(Answer::Done)
            }
            Operation::Line { high, within } => {
                let came = answered && port.line(*high, *within).unwrap_or(false);
                script.extend([2 + u8::from(*high), u8::from(came)]);
                script.extend(u32::try_from(*within).ok()?.to_be_bytes());
                runner.answer(if came { Answer::Done } else { Answer::TimedOut })
            }
            _ => return None,
        };
    }
    script.extend([255, u8::from(request.is_ok())]);
    Some((script, count))
}

/// A run of the library: the place of the routine among those of the sheet, what it is called in a report, and its script.
struct Replay {
    routine: usize,
    which: String,
    script: Vec<u8>,
}

/// Each routine from beginning to end, and with one of its first operations failing.
fn replays(part: &Part) -> Vec<Replay> {
    // Emitted code unlocks and restores registers whatever they hold, since the part may have been reset.
    let locked = part.registers().iter().any(|register| !register.bank().is_empty() || !register.writable_while().is_empty());
    let Some(bus) = part.buses().all().next().filter(|bus| *bus != Bus::Modbus && !locked) else { return Vec::new() };
    let mut all = Vec::new();
    for (at, (id, model)) in part.routines().entries().enumerate() {
        let Some((whole, count)) = script(part, id, bus, None) else { continue };
        let named = |which: String, script| Replay { routine: at, which: format!("{} {which}", model.name()), script };
        let failing = |at: usize| Some(named(format!("failing at {at}"), script(part, id, bus, Some(at))?.0));
        all.extend((0..count.min(FAILING)).filter_map(failing));
        all.push(named("whole".into(), whole));
    }
    all
}

/// Functions in C that run the routines of a module against the library's runs, and `replays`, which calls them all and prints what
/// differs; with the number of runs.
pub fn in_c(part: &Part, header: &str, prefix: &str) -> (String, usize) {
    let upper = prefix.to_uppercase();
    let (mut text, mut calls) = (String::from(TOOLS), String::new());
    let replays = replays(part);
    for (at, Step { function, run }) in steps(header).iter().enumerate() {
        if !replays.iter().any(|replay| replay.routine == at) {
            continue;
        }
        let line = if header.contains(&format!("{upper}_LINE")) { LINE } else { "" };
        let body = REPLAY.replace("@LINE@", line).replace("@STEP@", function).replace("@RUN@", run);
        text.push_str(&body.replace("@UP@", &upper).replace("@P@", prefix));
        for (count, Replay { which, script, .. }) in replays.iter().enumerate().filter(|(_, replay)| replay.routine == at) {
            text.push_str(&format!("static const uint8_t script_{count}[] = {{ {} }};\n", listed(script)));
            calls.push_str(&format!("    wrong += replay_{function}(script_{count}, \"{which}\");\n"));
        }
    }
    text.push_str(&format!("static int replays(void)\n{{\n    int wrong = 0;\n\n{calls}    return wrong;\n}}\n"));
    (text, replays.len())
}

/// A function in Rust that runs the routines of a module against the library's runs, and gives what differs.
pub fn in_rust(part: &Part, text: &str, module: &str) -> String {
    let runs: Vec<&str> = text.match_indices("Run {\n    /// Its beginning.").map(|(at, _)| type_before(text, at)).collect();
    let mut calls = String::new();
    for Replay { routine, which, script } in replays(part) {
        let arm = |has: &str, arm: &str| if text.contains(has) { arm.to_owned() } else { String::new() };
        let wait = arm(
            "\n    Wait(u32),",
            "Request::Wait(micros) => { if script.wait(1, micros) { continue; } return script.told(\"another wait\"); }",
        );
        let line = arm(
            "\n    Line {",
            "Request::Line { high, micros } => { answered = script.at[1] != 0; if script.wait(if high { 3 } else { 2 }, micros) { continue; } return script.told(\"another wait for the line\"); }",
        );
        calls.push_str(&format!(
            "    told.extend((|| {{ use {module}::Request; let mut script = Script::new(\"{which}\", &[{}]); let mut run = {module}::{}Run::new(); let mut device = {module}::Device::RESET; let mut answered = true; loop {{ match run.step(&mut device, answered) {{ Err(_) => return script.ended(false), Ok(request) => match request {{ Request::Finished => return script.ended(true), {wait} {line} Request::Transfer {{ write, read }} => match script.transfer(write, read) {{ Some(came) => answered = came, None => return script.told(&format!(\"asked {{write:02X?}} and {{}}\", read.len())) }} }} }} }} }})());\n",
            listed(&script),
            runs[routine]
        ));
    }
    format!("fn replay_{module}() -> Vec<String> {{\n    let mut told: Vec<String> = Vec::new();\n{calls}    told\n}}\n")
}

/// The name of the type whose `impl` goes on at a place.
fn type_before(text: &str, at: usize) -> &str {
    text[..at].rsplit(' ').next().unwrap_or("")
}

fn listed(script: &[u8]) -> String {
    script.iter().map(u8::to_string).collect::<Vec<_>>().join(", ")
}

/// What the functions in Rust share.
pub const RUST_TOOLS: &str = "
struct Script<'s> { which: &'static str, at: &'s [u8], count: usize }
impl<'s> Script<'s> {
    fn new(which: &'static str, at: &'s [u8]) -> Self { Self { which, at, count: 0 } }
    fn told(&self, what: &str) -> Option<String> { Some(format!(\"{}, operation {}: {what}; the library {:02X?}\", self.which, self.count, &self.at[..self.at.len().min(16)])) }
    fn ended(&self, well: bool) -> Option<String> {
        if self.at[0] != 255 { return self.told(\"ended\"); }
        if (self.at[1] != 0) == well { None } else { self.told(\"one succeeds, the other fails\") }
    }
    fn wait(&mut self, kind: u8, micros: u32) -> bool {
        let same = self.at[0] == kind && self.at[2..6] == micros.to_be_bytes();
        if same { self.at = &self.at[6..]; self.count += 1; }
        same
    }
    fn transfer(&mut self, write: &[u8], read: &mut [u8]) -> Option<bool> {
        if self.at[0] != 0 { return None; }
        let length = |at: usize| usize::from(u16::from_be_bytes([self.at[at], self.at[at + 1]]));
        let sent = length(2);
        let came = length(4 + sent);
        if self.at[4..4 + sent] != *write || came != read.len() { return None; }
        let answered = self.at[1] != 0;
        if answered { read.copy_from_slice(&self.at[6 + sent..6 + sent + came]); }
        self.at = &self.at[6 + sent + came..];
        self.count += 1;
        Some(answered)
    }
}
";

/// Reads numbers of a script, and tells a difference.
const TOOLS: &str = "
#include <string.h>
#define U16(at) ((uint16_t)(((at)[0] << 8) | (at)[1]))
#define U32(at) (((uint32_t)U16(at) << 16) | U16((at) + 2))
__attribute__((unused)) static int told(const char *which, int count, const char *what)
{
    printf(\"%s, operation %d: %s\\n\", which, count, what);
    return 1;
}
__attribute__((unused)) static int told_bytes(const char *which, int count, const uint8_t *asked, uint16_t asked_length, uint16_t read,
        const uint8_t *at)
{
    const uint16_t length = U16(at + 2);

    printf(\"%s, operation %d: asked\", which, count);
    for (uint16_t i = 0; i < asked_length; i++) {
        printf(\" %02X\", (unsigned)asked[i]);
    }
    printf(\" and %u; the library\", (unsigned)read);
    for (uint16_t i = 0; i < length; i++) {
        printf(\" %02X\", (unsigned)at[4 + i]);
    }
    printf(\" and %u\\n\", (unsigned)U16(at + 4 + length));
    return 1;
}
";

/// A wait for the line.
const LINE: &str = "
        if (request.kind == @UP@_LINE) {
            if ((at[0] != (request.high ? 3 : 2)) || (U32(at + 2) != request.micros)) {
                return told(which, count, \"another wait for the line\");
            }
            answered = at[1] != 0;
            at += 6;
            continue;
        }";

/// Runs a routine along a script.
const REPLAY: &str = "
static int replay_@STEP@(const uint8_t *at, const char *which)
{
    @P@_device_t device = @P@_device_reset();
    @RUN@ run;
    bool answered = true;

    memset(&run, 0, sizeof run);
    for (int count = 0;; count++) {
        @P@_request_t request;
        const @P@_outcome_t outcome = @STEP@_step(&run, &device, answered, &request);

        if ((outcome != @UP@_SUCCEEDED) || (request.kind == @UP@_FINISHED)) {
            if (at[0] != 255) {
                return told(which, count, \"ended, and the library goes on\");
            }
            return ((outcome == @UP@_SUCCEEDED) == (at[1] != 0)) ? 0 : told(which, count, \"one succeeds, the other fails\");
        }
        if (at[0] == 255) {
            return told(which, count, \"goes on, and the library ended\");
        }@LINE@
        if (request.kind == @UP@_WAIT) {
            if ((at[0] != 1) || (U32(at + 2) != request.micros)) {
                printf(\"%lu us for %lu: \", (unsigned long)request.micros, (unsigned long)U32(at + 2));
                return told(which, count, (at[0] == 1) ? \"another wait\" : \"waits, the library does not\");
            }
            at += 6;
            continue;
        }
        if (at[0] != 0) {
            return told(which, count, \"a transfer, and none of the library\");
        }
        const uint16_t length = U16(at + 2);
        const uint16_t read = U16(at + 4 + length);

        if ((request.write_length != length) || (request.read_length != read)
                || ((length > 0) && (memcmp(request.write, at + 4, length) != 0))) {
            return told_bytes(which, count, request.write, request.write_length, request.read_length, at);
        }
        answered = at[1] != 0;
        if (answered && (read > 0)) {
            memcpy(request.read, at + 6 + length, read);
        }
        at += 6 + length + read;
    }
}
";
