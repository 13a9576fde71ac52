//! The routines of a module in C.

use yemdo::Part;
use yemdo::bus::Bus;

use super::{Replay, listed, replays};

/// The names of a step function and its run.
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

/// Functions in C that run the routines of a module against the library's runs, and `replays`, which calls them all and prints what
/// differs; with the number of runs.
pub fn functions(part: &Part, header: &str, prefix: &str) -> (String, usize) {
    let upper = prefix.to_uppercase();
    let (mut text, mut calls) = (String::from(TOOLS), String::new());
    let replays = replays(part);
    let line = if header.contains(&format!("{upper}_LINE")) { LINE } else { "" };
    let transfer = match part.buses().all().next() {
        Some(Bus::Modbus) => {
            let reads = if header.contains(&format!("{upper}_MODBUS_READ")) { MODBUS_READ } else { "" };
            let writes = if header.contains(&format!("{upper}_MODBUS_WRITE")) { MODBUS_WRITE } else { "" };
            format!("{reads}{writes}        return told(which, count, \"another operation\");\n")
        }
        _ => TRANSFER.to_owned(),
    };
    for (at, Step { function, run }) in steps(header).iter().enumerate() {
        if !replays.iter().any(|replay| replay.routine == at) {
            continue;
        }
        let body = REPLAY.replace("@TRANSFER@", &transfer).replace("@LINE@", line).replace("@STEP@", function).replace("@RUN@", run);
        text.push_str(&body.replace("@UP@", &upper).replace("@P@", prefix));
        for (count, Replay { which, script, .. }) in replays.iter().enumerate().filter(|(_, replay)| replay.routine == at) {
            text.push_str(&format!("static const uint8_t script_{count}[] = {{ {} }};\n", listed(script)));
            calls.push_str(&format!("    wrong += replay_{function}(script_{count}, \"{which}\");\n"));
        }
    }
    text.push_str(&format!("static int replays(void)\n{{\n    int wrong = 0;\n\n{calls}    return wrong;\n}}\n"));
    (text, replays.len())
}

/// Functions that read numbers of a script and print a difference.
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
                return told(which, count, \"ended before the library\");
            }
            return ((outcome == @UP@_SUCCEEDED) == (at[1] != 0)) ? 0 : told(which, count, \"one succeeds, the other fails\");
        }
        if (at[0] == 255) {
            return told(which, count, \"continues after the library ended\");
        }@LINE@
        if (request.kind == @UP@_WAIT) {
            if ((at[0] != 1) || (U32(at + 2) != request.micros)) {
                printf(\"%lu us for %lu: \", (unsigned long)request.micros, (unsigned long)U32(at + 2));
                return told(which, count, (at[0] == 1) ? \"another wait\" : \"waits, the library does not\");
            }
            at += 6;
            continue;
        }
@TRANSFER@    }
}
";

/// Bytes that are written and read.
const TRANSFER: &str = "        if (at[0] != 0) {
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
";

/// Registers or bits that are read over Modbus.
const MODBUS_READ: &str = "        if (request.kind == @UP@_MODBUS_READ) {
            if ((at[0] != 4) || (at[2] != request.function) || (U16(at + 4) != request.count) || (U16(at + 6) != request.address)) {
                printf(\"%u %u %u: \", (unsigned)request.function, (unsigned)request.address, (unsigned)request.count);
                return told(which, count, \"another read\");
            }
            answered = at[1] != 0;
            if (answered && (request.read_length != U16(at + 8))) {
                return told(which, count, \"another length of the answer\");
            }
            memcpy(request.read, at + 10, U16(at + 8));
            at += 10 + U16(at + 8);
            continue;
        }
";

/// Registers that are written over Modbus.
const MODBUS_WRITE: &str = "        if (request.kind == @UP@_MODBUS_WRITE) {
            if ((at[0] != 5) || (U16(at + 6) != request.address) || (U16(at + 8) != request.write_length)
                    || (memcmp(request.write, at + 10, request.write_length) != 0)) {
                return told(which, count, \"another write\");
            }
            answered = at[1] != 0;
            at += 10 + U16(at + 8);
            continue;
        }
";
