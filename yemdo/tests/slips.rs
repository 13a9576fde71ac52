//! Further slips, as a person sees them: names, ranges, buses, examples, and what the reviewer warns of.
//! `SNAPSHOTS=overwrite` rewrites what is expected.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

#[path = "common/shown.rs"]
mod shown;

use shown::shown;
use snapbox::{assert_data_eq, str};

#[test]
fn a_name_that_cannot_be_one() {
    let sheet = r##"part = "p"
[frame."two words"]
read = 1
code = { c = "b0" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-name]: `two words` cannot be a name
 --> p.toml:2:8
  |
2 | [frame."two words"]
  |        ^^^^^^^^^^^ names are made of letters, digits and _, as in C
  |
  = help: write `two_words`
"#]]
    );
}

#[test]
fn a_range_the_wrong_way_round() {
    let sheet = r##"part = "p"
[frame.F]
read = 1
code = { c = { layout = "b0", range = [9, 3] } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-range]: a range is [low, high], with low not above high
 --> p.toml:4:39
  |
4 | code = { c = { layout = "b0", range = [9, 3] } }
  |                                       ^^^^^^ expected two numbers, the lower one first
"#]]
    );
}

#[test]
fn a_range_of_three_numbers() {
    let sheet = r##"part = "p"
[frame.F]
read = 1
code = { c = "b0" }
[reading.r]
unit = "V"
formula = "c"
range = [1, 2, 3]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-range]: a range is [low, high], with low not above high
 --> p.toml:8:9
  |
8 | range = [1, 2, 3]
  |         ^^^^^^^^^ expected two numbers, the lower one first
"#]]
    );
}

#[test]
fn registers_the_wrong_way_round() {
    let sheet = r##"part = "p"
[register.LOW]
at = 0x31
[register.HIGH]
at = 0x32
[frame.F]
registers = "HIGH..LOW"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-run]: `LOW` stands before `HIGH`
 --> p.toml:7:14
  |
7 | registers = "HIGH..LOW"
  |              ^^^^^^^^^ the lower address comes first
"#]]
    );
}

#[test]
fn an_example_with_no_value() {
    let sheet = r##"part = "p"
[frame.F]
read = 1
code = { c = "b0" }
[reading.r]
unit = "V"
formula = "c"
[[example]]
F = "05"
gives = { r = "about five" }
[[example]]
F = "06"
gives = { r = "6 ± few V" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-value]: `about five` is neither a value nor a status
  --> p.toml:10:15
   |
10 | gives = { r = "about five" }
   |               ^^^^^^^^^^^^ expected a number with its unit
   |
   = help: such as "12.50 V"; or one of ok, alert, out of range, saturated, not ready, invalid, fault, formula fault, waiting, absent

error[bad-value]: behind ± stands a number
  --> p.toml:13:15
   |
13 | gives = { r = "6 ± few V" }
   |               ^^^^^^^^^^^ expected 12.5 ± 0.1
"#]]
    );
}

#[test]
fn one_code_with_the_bytes_the_other_way() {
    let sheet = r##"part = "p"
[frame.F]
read = 8
code = { a = "b0 b1", b = "b2 b3", c = "b4 b5", d = "b7 b6" }
[reading]
ra = { unit = "V", formula = "a * 0.1" }
rb = { unit = "V", formula = "b * 0.2" }
rc = { unit = "V", formula = "c * 0.3" }
rd = { unit = "V", formula = "d * 0.4" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[no-example]: the sheet has no worked example
 --> p.toml:1:1
  |
1 | part = "p"
  | ^ the datasheet has one, as a rule
  |
  = help: type it as [[example]]; otherwise make one at the bench: received bytes, and a reference value (24 ± 3 °C)

warning[byte-order-differs]: `d` has another byte order than the part's other codes
 --> p.toml:4:49
  |
4 | code = { a = "b0 b1", b = "b2 b3", c = "b4 b5", d = "b7 b6" }
  |                                                 ^ typed as b7 b6; the others have the high byte first
"#]]
    );
}

#[test]
fn two_rows_with_one_code() {
    let sheet = r##"part = "p"
[register.R]
at = 0x31
[register.R.field.MODE]
bits = "[1:0]"
values = [{ code = 1, name = "slow" }, { code = 1, name = "fast" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[code-taken]: the code 1 of `MODE` has two rows
 --> p.toml:6:49
  |
6 | values = [{ code = 1, name = "slow" }, { code = 1, name = "fast" }]
  |                                                 ^ again here
"#]]
    );
}

#[test]
fn a_formula_of_nothing() {
    let sheet = r##"part = "p"
[frame.F]
read = 1
code = { c = "b0" }
[reading.r]
unit = "V"
formula = " "
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[empty-formula]: a formula needs an expression
 --> p.toml:7:11
  |
7 | formula = " "
  |           ^^^ nothing here
"#]]
    );
}

#[test]
fn a_layout_of_nothing() {
    let sheet = r##"part = "p"
[frame.F]
read = 1
code = { c = "signed" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[empty-layout]: a layout names at least one byte
 --> p.toml:4:14
  |
4 | code = { c = "signed" }
  |              ^^^^^^^^ no slice here
  |
  = help: write the slices most significant first, such as "b1 b2[7:2]"
"#]]
    );
}

#[test]
fn a_pasted_formula() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 4
code = { a = "b0 b1", b = "b2 b3" }
[reading]
warmth = { unit = "°C", formula = "a * 0.0175 - 38.5" }
level = { unit = "hPa", formula = "a * 0.0175 - 38.5" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[never-used]: the code `b` is never used
 --> p.toml:5:23
  |
5 | code = { a = "b0 b1", b = "b2 b3" }
  |                       ^ no formula and no condition has it
  |
  = help: if it is only to be seen, have an example expect it, or switch the warning off: allow = ["never-used"]

warning[formula-repeated]: `level` in hPa has the same formula as `warmth` in °C
 --> p.toml:8:36
  |
7 | warmth = { unit = "°C", formula = "a * 0.0175 - 38.5" }
  |                                    ----------------- first here
8 | level = { unit = "hPa", formula = "a * 0.0175 - 38.5" }
  |                                    ^^^^^^^^^^^^^^^^^ the same text
  |
  = help: was it pasted?
"#]]
    );
}

#[test]
fn a_fraction_that_is_dropped() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 2
code = { c = "b0 b1" }
[reading.r]
unit = "V"
formula = "c / 100 * 0.5"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[integer-division]: this division is one of integers: it drops the fraction
 --> p.toml:8:12
  |
8 | formula = "c / 100 * 0.5"
  |            ^^^^^^^ gives int32_t
  |
  = help: to keep the fraction, write 100.0 in place of 100
"#]]
    );
}

#[test]
fn a_frame_without_codes() {
    let sheet = r##"part = "p"
[frame.F]
read = 4
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[missing-key]: a frame has at least one code
 --> p.toml:2:8
  |
2 | [frame.F]
  |        ^ needs `code`
  |
  = help: such as code = { temperature = "signed b0 b1" }
"#]]
    );
}

#[test]
fn modbus_numbers_without_a_numbering() {
    let sheet = r##"part = "p"
[frame.F]
holding = "40011..40012"
code = { c = "b0 b1" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[missing-key]: a Modbus frame needs to know how addresses are printed
 --> p.toml:3:11
  |
3 | holding = "40011..40012"
  |           ^^^^^^^^^^^^^^ there is no [modbus] in this sheet
  |
  = help: such as [modbus] with numbering = "40001"

error[byte-outside-frame]: `b1` is outside the frame
 --> p.toml:4:18
  |
4 | code = { c = "b0 b1" }
  |                  ^^ the frame has 1 byte: b0 to b0
"#]]
    );
}

#[test]
fn a_field_and_a_quantity_of_one_name() {
    let sheet = r##"part = "p"
[register.R]
at = 0x31
reset = 0
field.LIMIT = { bits = "[7:0]" }
[quantity.LIMIT]
unit = "V"
formula = "LIMIT * 0.5"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[name-taken]: there is a field or parameter `LIMIT` too
 --> p.toml:6:11
  |
5 | field.LIMIT = { bits = "[7:0]" }
  |       ----- taken here
6 | [quantity.LIMIT]
  |           ^^^^^ a quantity needs a name of its own
"#]]
    );
}

#[test]
fn a_code_that_nothing_uses() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 3
code = { c = "b0 b1", spare = "b2" }
[reading.r]
unit = "V"
formula = "c * 0.25"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[never-used]: the code `spare` is never used
 --> p.toml:5:23
  |
5 | code = { c = "b0 b1", spare = "b2" }
  |                       ^^^^^ no formula and no condition has it
  |
  = help: if it is only to be seen, have an example expect it, or switch the warning off: allow = ["never-used"]
"#]]
    );
}

#[test]
fn a_last_byte_that_nothing_looks_at() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 3
code = { c = "b0 b1" }
[reading.r]
unit = "V"
formula = "c * 0.25"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[not-checked]: nothing uses b2 of `F`, and the frame has no check
 --> p.toml:3:8
  |
3 | [frame.F]
  |        ^ a check value that is not checked?
"#]]
    );
}

#[test]
fn a_range_that_no_code_reaches() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 2
code = { c = "b0 b1" }
[reading.r]
unit = "V"
formula = "c * 0.001"
range = [300, 1100]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[range-never-reached]: `r` is stated from 300 to 1100 V, but comes out from 0 to 65.535
 --> p.toml:6:10
  |
6 | [reading.r]
  |          ^ no code gives a value in its range
  |
  = help: is the scale or the unit another one?
"#]]
    );
}

#[test]
fn a_reset_that_breaks_what_is_reserved() {
    let sheet = r##"part = "p"
i2c.address = 0x2B
[register.R]
at = 0x31
reset = 0x81
field.LEVEL = { bits = "[3:0]" }
reserved = { bits = "[7:4]", write = 0 }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[reset-sets-reserved]: the reset value 0x81 of `R` is not what must be written to its reserved bits
 --> p.toml:3:11
  |
3 | [register.R]
  |           ^ its reset value
...
7 | reserved = { bits = "[7:4]", write = 0 }
  |                     ------- these bits
"#]]
    );
}

#[test]
fn a_sign_that_is_lost() {
    let sheet = r##"part = "p"
allow = ["no-example"]
[frame.F]
read = 8
code = { a = "signed b0..b3", b = "b4..b7" }
[reading.r]
unit = "V"
formula = "a < b ? 1.5 : a / b"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[sign-lost]: `<` works on uint32_t here: a negative int32_t becomes a large number
 --> p.toml:8:14
  |
8 | formula = "a < b ? 1.5 : a / b"
  |            - ^ signed meets unsigned
  |            |
  |            this is int32_t
  |
  = help: if the sign matters, cast the other side: (int32_t)x

warning[integer-division]: this division is one of integers: it drops the fraction
 --> p.toml:8:26
  |
8 | formula = "a < b ? 1.5 : a / b"
  |                          ^^^^^ gives uint32_t
  |
  = help: to keep the fraction, make one side real: (double)x / y

warning[sign-lost]: `/` works on uint32_t here: a negative int32_t becomes a large number
 --> p.toml:8:28
  |
8 | formula = "a < b ? 1.5 : a / b"
  |                          - ^ signed meets unsigned
  |                          |
  |                          this is int32_t
  |
  = help: if the sign matters, cast the other side: (int32_t)x
"#]]
    );
}

#[test]
fn an_auto_increment_bit_beyond_the_byte() {
    let sheet = r##"part = "p"
[i2c]
address = 0x2B
increment = 0x180
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: increment is 0 to 255, not 384
 --> p.toml:4:13
  |
4 | increment = 0x180
  |             ^^^^^ expected 0 to 255
"#]]
    );
}

#[test]
fn registers_that_a_bus_cannot_reach() {
    let sheet = r##"part = "p"
[spi]
mode = 0
read = 0x80
[register.NEAR]
at = 0x31
[register.FAR]
at = 0xB1
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: 0xB1 cannot be sent as a register's address
 --> p.toml:8:6
  |
8 | at = 0xB1
  |      ^^^^ it has the bit 0x80, which over SPI means read, write or auto-increment
"#]]
    );
}

#[test]
fn a_field_that_is_set_twice() {
    let sheet = r##"part = "p"
i2c.address = 0x2B
[register.R]
at = 0x31
reset = 0
field.LEVEL = { bits = "[3:0]" }
field.MODE = { bits = "[5:4]", values = [{ code = 0, name = "off" }, { code = 1, name = "on" }] }
[routine]
start = [{ set = { MODE = "onn" } }, { set = { LEVEL = 16 } }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: `MODE` has no value `onn`
 --> p.toml:9:27
  |
9 | start = [{ set = { MODE = "onn" } }, { set = { LEVEL = 16 } }]
  |                           ^^^^^ not a value of it
  |
  = help: did you mean `on`?

error[out-of-range]: 16 is not a code of `LEVEL`
 --> p.toml:9:56
  |
9 | start = [{ set = { MODE = "onn" } }, { set = { LEVEL = 16 } }]
  |                                                        ^^ expected 0 to 15
"#]]
    );
}

#[test]
fn steps_that_make_no_sense() {
    let sheet = r##"part = "p"
i2c.address = 0x2B
[routine]
r = [{ wait = "5 parsecs" }, { line = "sideways", within = "1 ms" }, { do = "q" }, { repeat = 2 }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-time]: `parsecs` is not a unit of time here
 --> p.toml:4:15
  |
4 | r = [{ wait = "5 parsecs" }, { line = "sideways", within = "1 ms" }, { do = "q" }, { repeat = 2 }]
  |               ^^^^^^^^^^^ expected µs, ms, s or min
  |
  = help: a wait lasts up to an hour: 60 min

error[unknown-word]: `sideways` is not a word that `line` takes
 --> p.toml:4:39
  |
4 | r = [{ wait = "5 parsecs" }, { line = "sideways", within = "1 ms" }, { do = "q" }, { repeat = 2 }]
  |                                       ^^^^^^^^^^ not known here
  |
  = help: known words: high or low

error[step-action]: a step does one thing
 --> p.toml:4:84
  |
4 | r = [{ wait = "5 parsecs" }, { line = "sideways", within = "1 ms" }, { do = "q" }, { repeat = 2 }]
  |                                                                                    ^^^^^^^^^^^^^^ does nothing
  |
  = help: give one of write, set, read, wait, poll, line, expect, do
"#]]
    );
}

#[test]
fn a_layout_beyond_the_frame() {
    let sheet = r##"part = "p"
[frame.F]
read = 3
code = { c = "b1 b2 b3", d = "b0[9:8]", e = "b0[2:5]" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[byte-outside-frame]: `b3` is outside the frame
 --> p.toml:4:21
  |
4 | code = { c = "b1 b2 b3", d = "b0[9:8]", e = "b0[2:5]" }
  |                     ^^ the frame has 3 bytes: b0 to b2

error[bit-outside-byte]: a byte has the bits 7 to 0, not 9
 --> p.toml:4:33
  |
4 | code = { c = "b1 b2 b3", d = "b0[9:8]", e = "b0[2:5]" }
  |                                 ^^^^^ its bits are 7 to 0

error[bits-reversed]: the more significant bit comes first
 --> p.toml:4:48
  |
4 | code = { c = "b1 b2 b3", d = "b0[9:8]", e = "b0[2:5]" }
  |                                                ^^^^^ write [5:2]
"#]]
    );
}

#[test]
fn a_check_over_itself() {
    let sheet = r##"part = "p"
[frame.F]
read = 3
check = { crc = { width = 8, poly = 0x4D }, over = "b0..b2", in = "b2" }
code = { c = "b0 b1" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[check-covers-itself]: a check cannot cover the place where its own value stands
 --> p.toml:4:52
  |
4 | check = { crc = { width = 8, poly = 0x4D }, over = "b0..b2", in = "b2" }
  |                                                    ^^^^^^^^       ---- the check value stands here
  |                                                    |
  |                                                    this covers it
  |
  = help: leave those bits out, or put zeros in their place: `0b0000`
"#]]
    );
}

#[test]
fn an_example_of_other_bytes() {
    let sheet = r##"part = "p"
[frame.F]
read = 2
code = { c = "b0 b1" }
[reading.r]
unit = "V"
formula = "c * 0.5"
[[example]]
F = "00 08 01"
gives = { r = "4 V" }
[[example]]
F = "00 0G"
gives = { r = "4 V" }
[[example]]
F = "00 08"
gives = { r = "4 mA" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-hex]: `0G` at column 4 is not hex; write bytes as 1A 2B, 0x1A,0x2B or 1A2B
  --> p.toml:12:9
   |
12 | F = "00 0G"
   |         ^^ not hex

error[unit-differs]: expected the unit `V`, found `mA`
  --> p.toml:16:15
   |
16 | gives = { r = "4 mA" }
   |               ^^^^^^ the reading has another unit
   |
   = help: write "4 V"
"#]]
    );
}

#[test]
fn keys_as_others_call_them() {
    let sheet = r##"part = "p"
description = "a part"
[register.MODE]
addr = 0x57
field.RATE = { bits = "[4:2]", reset = 2 }
[frame.F]
register = 0x71
size = 2
code = { c = "b0 b1" }
[reading.r]
unit = "mm"
scale = 0.75
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-key]: unknown key `description` in sheet
 --> p.toml:2:1
  |
2 | description = "a part"
  | ^^^^^^^^^^^ not a key that is known here
  |
  = help: did you mean `title`? Short description of the part.

error[unknown-key]: unknown key `addr` in register
 --> p.toml:4:1
  |
4 | addr = 0x57
  | ^^^^ not a key that is known here
  |
  = help: did you mean `at`? Address; over Modbus, of a holding register, as printed.

error[unknown-key]: unknown key `reset` in field
 --> p.toml:5:32
  |
5 | field.RATE = { bits = "[4:2]", reset = 2 }
  |                                ^^^^^ not a key that is known here
  |
  = help: known keys: bits, names, values, access, computed, means or source
  = help: `reset` is a key of register

error[unknown-key]: unknown key `register` in frame
 --> p.toml:7:1
  |
7 | register = 0x71
  | ^^^^^^^^ not a key that is known here
  |
  = help: did you mean `registers`?

error[unknown-key]: unknown key `size` in frame
 --> p.toml:8:1
  |
8 | size = 2
  | ^^^^ not a key that is known here
  |
  = help: did you mean `read`? Number of bytes, 1 to 4096; for a frame without `registers`, `transfers` or a Modbus table.

error[unknown-key]: unknown key `scale` in reading
  --> p.toml:12:1
   |
12 | scale = 0.75
   | ^^^^^ not a key that is known here
   |
   = help: did you mean `formula`? Formula from the codes to the quantity, in C.
"#]]
    );
}
