//! Every kind of complaint, as a person sees it. `SNAPSHOTS=overwrite` rewrites what is expected.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

#[path = "common/shown.rs"]
mod shown;

use shown::shown;
use snapbox::{assert_data_eq, str};

#[test]
fn a_misspelt_key() {
    let sheet = r##"part = "p"
titel = "x"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-key]: unknown key `titel` in sheet
 --> p.toml:2:1
  |
2 | titel = "x"
  | ^^^^^ not a key that is known here
  |
  = help: did you mean `title`?
"#]]
    );
}

#[test]
fn a_key_of_the_wrong_kind() {
    let sheet = r##"part = ["p"]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[wrong-type]: expected text in quotes, found a list
 --> p.toml:1:8
  |
1 | part = ["p"]
  |        ^^^^^ this is a list
"#]]
    );
}

#[test]
fn no_toml() {
    let sheet = r##"part = "p"
[frame
read = 3
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[toml]: this is not TOML: unclosed table, expected `]`
 --> p.toml:2:7
  |
2 | [frame
  |       ^ here
"#]]
    );
}

#[test]
fn an_eight_bit_address() {
    let sheet = r##"part = "p"
i2c.address = 0xBA
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[eight-bit-address]: 0xBA is not a 7-bit address
 --> p.toml:2:15
  |
2 | i2c.address = 0xBA
  |               ^^^^ an address has 7 bits, 0x08 to 0x77
  |
  = help: if the datasheet prints the 8-bit form, with the read/write bit, write "0xBA 8-bit", or 0x5D
"#]]
    );
}

#[test]
fn an_address_for_reading() {
    let sheet = r##"part = "p"
i2c.address = "0xBB 8-bit"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-address]: 0xBB is the 8-bit form for reading
 --> p.toml:2:15
  |
2 | i2c.address = "0xBB 8-bit"
  |               ^^^^^^^^^^^^ its last bit is the read bit
  |
  = help: write "0xBA 8-bit"
"#]]
    );
}

#[test]
fn a_reserved_address() {
    let sheet = r##"part = "p"
i2c.address = 0x7A
register.A = { at = 70000 }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[reserved-address]: 0x7A is among the addresses that the I2C specification reserves
 --> p.toml:2:15
  |
2 | i2c.address = 0x7A
  |               ^^^^ parts have 0x08 to 0x77
  |
  = help: if the datasheet prints the 8-bit form, with the read/write bit, write "0x7A 8-bit"

error[out-of-range]: a register's address is 0 to 65535, not 70000
 --> p.toml:3:21
  |
3 | register.A = { at = 70000 }
  |                     ^^^^^ another was expected
"#]]
    );
}

#[test]
fn a_misspelt_form() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "singed b0 b1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-form]: `singed` is neither a number form nor a register of the frame
 --> p.toml:2:37
  |
2 | frame.F = { read = 3, code = { c = "singed b0 b1" } }
  |                                     ^^^^^^ expected a number form or a slice
  |
  = help: did you mean `signed`?
"#]]
    );
}

#[test]
fn a_byte_beyond_the_frame() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "b1 b3" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[byte-outside-frame]: `b3` is outside the frame
 --> p.toml:2:40
  |
2 | frame.F = { read = 3, code = { c = "b1 b3" } }
  |                                        ^^ the frame has 3 bytes: b0 to b2
"#]]
    );
}

#[test]
fn bits_beyond_the_byte() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "b0 b1[9:2]" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bit-outside-byte]: a byte has the bits 7 to 0, not 9
 --> p.toml:2:42
  |
2 | frame.F = { read = 3, code = { c = "b0 b1[9:2]" } }
  |                                          ^^^^^ its bits are 7 to 0
"#]]
    );
}

#[test]
fn bits_the_wrong_way_round() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "b0 b1[2:7]" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bits-reversed]: the more significant bit comes first
 --> p.toml:2:42
  |
2 | frame.F = { read = 3, code = { c = "b0 b1[2:7]" } }
  |                                          ^^^^^ write [7:2]
"#]]
    );
}

#[test]
fn no_slice() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "b0 1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-slice]: `1` is not a valid slice
 --> p.toml:2:40
  |
2 | frame.F = { read = 3, code = { c = "b0 1" } }
  |                                        ^ expected b0, b0[7:4], b0[3] or b0..b3
"#]]
    );
}

#[test]
fn an_array_too_long() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "4 x b0" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[byte-outside-frame]: the last of the 4 elements reaches to b3
 --> p.toml:2:36
  |
2 | frame.F = { read = 3, code = { c = "4 x b0" } }
  |                                    ^^^^^^^^ the frame has 3 bytes: b0 to b2
"#]]
    );
}

#[test]
fn a_float_of_24_bits() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "float b0 b1 b2" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-width]: a code of form `float` has 16, 32 or 64 bits, not 24 bits
 --> p.toml:2:36
  |
2 | frame.F = { read = 3, code = { c = "float b0 b1 b2" } }
  |                                    ^^^^^^^^^^^^^^^^ these slices are 24 bits together
"#]]
    );
}

#[test]
fn a_code_range_too_wide() {
    let sheet = r##"part = "p"
frame.F = { read = 1, code = { c = { layout = "b0", range = [0, 300] } } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: the range is wider than the code
 --> p.toml:2:61
  |
2 | frame.F = { read = 1, code = { c = { layout = "b0", range = [0, 300] } } }
  |                                               ---- the code ^^^^^^^^ its bits hold 0 to 255
"#]]
    );
}

#[test]
fn a_misspelt_name() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "cc2 + c" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: `cc2` is not known here
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "cc2 + c" }
  |                                      ^^^ not known
  |
  = help: known names: c or d
"#]]
    );
}

#[test]
fn a_power_that_is_none() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c / 2^10" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[power-is-xor]: ^ is XOR in C, not a power
 --> p.toml:3:42
  |
3 | reading.r = { unit = "K", formula = "c / 2^10" }
  |                                          ^^^^ meant as a power?
  |
  = help: for a division by two to the power of 10: `/ 1024.0` keeps the fraction, `/ 1024` drops it, toward zero, and `>> 10` rounds down: below zero the last two differ, and datasheets mean either
"#]]
    );
}

#[test]
fn a_power_of_reals() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c ^ 2.0" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[power-is-xor]: ^ is XOR in C, not a power
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "c ^ 2.0" }
  |                                      ^^^^^^^ meant as a power?
  |
  = help: for a power, write pow(x, y)
"#]]
    );
}

#[test]
fn a_remainder_of_reals() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c % 1.5" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[integers-only]: `%` works on integers only
 --> p.toml:3:40
  |
3 | reading.r = { unit = "K", formula = "c % 1.5" }
  |                                        ^ --- this is double
  |                                        |
  |                                        one side is a real number
  |
  = help: for the remainder of reals, write fmod(x, y)
"#]]
    );
}

#[test]
fn a_misspelt_function() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "sqroot(c)" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-function]: `sqroot` is not a function that formulas may call
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "sqroot(c)" }
  |                                      ^^^^^^ only the functions of <math.h>, and abs
  |
  = help: did you mean `sqrt`?
"#]]
    );
}

#[test]
fn too_few_arguments() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "pow(c)" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[argument-count]: `pow` takes 2 arguments, not 1
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "pow(c)" }
  |                                      ^^^^^^ expected 2 arguments
"#]]
    );
}

#[test]
fn a_function_without_arguments() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "sqrt + c" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: `sqrt` is not known here
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "sqrt + c" }
  |                                      ^^^^ not known
  |
  = help: `sqrt` is a function: write sqrt(x)
"#]]
    );
}

#[test]
fn an_end_too_soon() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "(c + d" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[syntax]: expected `)`, found the end of the formula
 --> p.toml:3:44
  |
3 | reading.r = { unit = "K", formula = "(c + d" }
  |                                            ^ expected `)`
"#]]
    );
}

#[test]
fn no_return() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "int x = c; x += d;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[no-return]: the formula can end without a `return`
 --> p.toml:3:56
  |
3 | reading.r = { unit = "K", formula = "int x = c; x += d;" }
  |                                                        ^ a value must be returned on every path
  |
  = help: end with `return x;`
"#]]
    );
}

#[test]
fn no_value_yet() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "int x; if (d) x = c; return x;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[no-value-yet]: `x` may be used before it has a value
 --> p.toml:3:66
  |
3 | reading.r = { unit = "K", formula = "int x; if (d) x = c; return x;" }
  |                                          -                       ^ on some path nothing was assigned
  |                                          |
  |                                          declared here without a value
"#]]
    );
}

#[test]
fn declared_twice() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "int x = c; int x = d; return x;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[declared-twice]: `x` is declared twice
 --> p.toml:3:53
  |
3 | reading.r = { unit = "K", formula = "int x = c; int x = d; return x;" }
  |                                          -          ^ declared again here
  |                                          |
  |                                          first declared here
"#]]
    );
}

#[test]
fn never_reached() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "return c; return d;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unreachable]: this is never reached: the formula has returned before
 --> p.toml:3:55
  |
3 | reading.r = { unit = "K", formula = "return c; return d;" }
  |                                                       ^ after a `return`
"#]]
    );
}

#[test]
fn assigned_to_a_code() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c = 1; return c;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: `c` is not a variable
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "c = 1; return c;" }
  |                                      ^ comes from outside the formula
  |
  = help: give a variable of your own the new value
"#]]
    );
}

#[test]
fn a_loop() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "for (;;) { } return c;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[not-in-formulas]: `for` is left out of formulas
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "for (;;) { } return c;" }
  |                                      ^^^ no loops and jumps here
  |
  = help: write the steps out, or choose with `if`, `?:` or a table
"#]]
    );
}

#[test]
fn a_pointer() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "*c + d" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[not-in-formulas]: pointers and arrays are left out of formulas
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "*c + d" }
  |                                      ^ not here
  |
  = help: use the names of codes and variables directly
"#]]
    );
}

#[test]
fn an_array_in_c() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "int x[3]; return c;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[not-in-formulas]: arrays are left out of formulas
 --> p.toml:3:43
  |
3 | reading.r = { unit = "K", formula = "int x[3]; return c;" }
  |                                           ^ no arrays here
  |
  = help: give each value a name of its own
"#]]
    );
}

#[test]
fn assignment_inside() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + (d = 2)" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[not-in-formulas]: assignment inside an expression is left out of formulas
 --> p.toml:3:45
  |
3 | reading.r = { unit = "K", formula = "c + (d = 2)" }
  |                                             ^ no assignment here
  |
  = help: for a comparison, write ==; else give the assignment a statement of its own
"#]]
    );
}

#[test]
fn plain_char() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "char x = c; return x;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-type]: `char` is not a type of the formula language
 --> p.toml:3:38
  |
3 | reading.r = { unit = "K", formula = "char x = c; return x;" }
  |                                      ^^^^ not a type here
  |
  = help: whether plain `char` has a sign depends on the compiler; write int8_t or uint8_t
"#]]
    );
}

#[test]
fn a_multiplication_sign() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c × 2" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-token]: `×` is not part of C
 --> p.toml:3:40
  |
3 | reading.r = { unit = "K", formula = "c × 2" }
  |                                        ^ not understood
  |
  = help: in C this is `*`
"#]]
    );
}

#[test]
fn a_suffix_of_its_own() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + 10q" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-number]: `10q` is not a valid number in C
 --> p.toml:3:42
  |
3 | reading.r = { unit = "K", formula = "c + 10q" }
  |                                          ^^^ expected a whole number of up to 64 bits
"#]]
    );
}

#[test]
fn octal_by_accident() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + 08" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-number]: `08` is not a valid number in C
 --> p.toml:3:42
  |
3 | reading.r = { unit = "K", formula = "c + 08" }
  |                                          ^^ a leading zero means octal in C
"#]]
    );
}

#[test]
fn a_value_not_used() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + d;" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[syntax]: expected the end of the formula, found `;`
 --> p.toml:3:43
  |
3 | reading.r = { unit = "K", formula = "c + d;" }
  |                                           ^ expected the end of the formula
  |
  = help: to give this value, write `return` before it
"#]]
    );
}

#[test]
fn a_column_that_is_not_there() {
    let sheet = r##"part = "p"
register.SET = { at = 1, field.GAIN = { bits = "[7:0]", values = [{ code = 0, gain = 1 }] } }
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c * GAIN.gian" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unusable-name]: `GAIN.gian` cannot be used here
 --> p.toml:4:42
  |
4 | reading.r = { unit = "K", formula = "c * GAIN.gian" }
  |                                          ^^^^^^^^^ its columns are gain
"#]]
    );
}

#[test]
fn readings_in_a_circle() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.a = { unit = "K", formula = "b + c" }
reading.b = { unit = "K", formula = "a + d" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[cycle]: `a` and `b` need one another
 --> p.toml:3:38
  |
3 | reading.a = { unit = "K", formula = "b + c" }
  |                                      ^ a reading cannot depend on itself
"#]]
    );
}

#[test]
fn a_polynomial_with_its_top() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { c = "b0" }, check = { crc = { width = 8, poly = 0x11D }, over = "b0", in = "b1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[too-wide]: 0x11D does not fit in 8 bits
 --> p.toml:2:80
  |
2 | frame.F = { read = 2, code = { c = "b0" }, check = { crc = { width = 8, poly = 0x11D }, over = "b0", in = "b1" } }
  |                                                                      -         ^^^^^ at most 0xFF
  |                                                                      |
  |                                                                      the width
  |
  = help: leave the polynomial's highest term out: write 0x1D
"#]]
    );
}

#[test]
fn a_check_over_itself() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { c = "b0" }, check = { xor = 0, over = "b0 b1", in = "b1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[check-covers-itself]: a check cannot cover the place where its own value stands
 --> p.toml:2:70
  |
2 | frame.F = { read = 2, code = { c = "b0" }, check = { xor = 0, over = "b0 b1", in = "b1" } }
  |                                                                      ^^^^^^^       ---- the check value stands here
  |                                                                      |
  |                                                                      this covers it
  |
  = help: leave those bits out, or put zeros in their place: `0b0000`
"#]]
    );
}

#[test]
fn a_check_in_too_little_room() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { c = "b0" }, check = { crc = "CRC-16/MODBUS", over = "b0", in = "b1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-width]: the check value has 16 bits, but its place has 8
 --> p.toml:2:95
  |
2 | frame.F = { read = 2, code = { c = "b0" }, check = { crc = "CRC-16/MODBUS", over = "b0", in = "b1" } }
  |                                                            --------------- 16 bits            ^^^^ 8 bits
"#]]
    );
}

#[test]
fn a_model_nobody_knows() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { c = "b0" }, check = { crc = "CRC-8/SMBUSS", over = "b0", in = "b1" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-word]: `CRC-8/SMBUSS` is not a known CRC model
 --> p.toml:2:60
  |
2 | frame.F = { read = 2, code = { c = "b0" }, check = { crc = "CRC-8/SMBUSS", over = "b0", in = "b1" } }
  |                                                            ^^^^^^^^^^^^^^ not known
  |
  = help: did you mean `CRC-8/SMBUS`?
  = help: or give its parameters: { width = 8, poly = 0x07, init = 0 }
"#]]
    );
}

#[test]
fn two_ways_to_read() {
    let sheet = r##"part = "p"
frame.F = { read = 2, coils = 1, code = { c = "b0" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[frame-source]: a frame needs exactly one source
 --> p.toml:2:7
  |
2 | frame.F = { read = 2, coils = 1, code = { c = "b0" } }
  |       ^ says it more than once
  |
  = help: give one of `read`, `registers`, `transfers`, `holding`, `input`, `coils` or `discrete`
"#]]
    );
}

#[test]
fn fields_that_overlap() {
    let sheet = r##"part = "p"
register.MODE = { at = 1, field = { RATE = { bits = "[5:3]" }, ON = { bits = "[3]" } } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[fields-overlap]: `ON` and `RATE` share bits of `MODE`
 --> p.toml:2:64
  |
2 | register.MODE = { at = 1, field = { RATE = { bits = "[5:3]" }, ON = { bits = "[3]" } } }
  |                                     ---- taken here            ^^ takes bits that are taken
"#]]
    );
}

#[test]
fn a_code_beyond_the_field() {
    let sheet = r##"part = "p"
register.MODE = { at = 1, field.RATE = { bits = "[1:0]", values = [{ code = 1 }, { code = 9 }] } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: 9 is not a code of `RATE`
 --> p.toml:2:91
  |
2 | register.MODE = { at = 1, field.RATE = { bits = "[1:0]", values = [{ code = 1 }, { code = 9 }] } }
  |                                                 ------- the bits                          ^ its 2 bits hold 0 to 3
"#]]
    );
}

#[test]
fn a_reset_value_too_wide() {
    let sheet = r##"part = "p"
register.MODE = { at = 1, reset = 0x148 }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[too-wide]: 0x148 does not fit in 8 bits
 --> p.toml:2:35
  |
2 | register.MODE = { at = 1, reset = 0x148 }
  |                                   ^^^^^ at most 0xFF
"#]]
    );
}

#[test]
fn a_bank_that_is_none() {
    let sheet = r##"part = "p"
register.MODE = { at = 1, bank = { PAEG = 1 }, field.PAGE = { bits = "[0]" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: there is no field `PAEG`
 --> p.toml:2:36
  |
2 | register.MODE = { at = 1, bank = { PAEG = 1 }, field.PAGE = { bits = "[0]" } }
  |                                    ^^^^ not a field
  |
  = help: did you mean `PAGE`?
"#]]
    );
}

#[test]
fn a_printed_address_of_another_table() {
    let sheet = r##"part = "p"
modbus.numbering = "40001"
frame.F = { holding = 30001, code = { c = "w0" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-address]: `30001` is not an address of holding registers
 --> p.toml:3:23
  |
3 | frame.F = { holding = 30001, code = { c = "w0" } }
  |                       ^^^^^ holding registers are printed 40001 to 49999 here

error[byte-outside-frame]: `w0` is outside the frame
 --> p.toml:3:44
  |
3 | frame.F = { holding = 30001, code = { c = "w0" } }
  |                                            ^^ the frame has 0 words: w0 to w0
"#]]
    );
}

#[test]
fn a_value_in_another_unit() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + d" }
example = { F = "00 01 02", gives = { r = "3 °C" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unit-differs]: expected the unit `K`, found `°C`
 --> p.toml:4:43
  |
4 | example = { F = "00 01 02", gives = { r = "3 °C" } }
  |                                           ^^^^^^ the reading has another unit
  |
  = help: write "3 K"
"#]]
    );
}

#[test]
fn a_reading_that_is_not_there() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + d" }
example = { F = "00 01 02", gives = { rr = "3 K" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: there is no reading and no code `rr`
 --> p.toml:4:39
  |
4 | example = { F = "00 01 02", gives = { rr = "3 K" } }
  |                                       ^^ not a reading of this sheet
  |
  = help: did you mean `r`?
"#]]
    );
}

#[test]
fn odd_hex() {
    let sheet = r##"part = "p"
frame.F = { read = 3, code = { c = "signed b0 b1", d = "b2" } }
reading.r = { unit = "K", formula = "c + d" }
example = { F = "00 01 2", gives = { r = "3 K" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-hex]: `2` at column 7 has an odd number of hex digits (1); each byte has two
 --> p.toml:4:24
  |
4 | example = { F = "00 01 2", gives = { r = "3 K" } }
  |                        ^ not hex
"#]]
    );
}

#[test]
fn a_table_that_falls() {
    let sheet = r##"part = "p"
table.T = { points = [[2, 0], [1, 5]], outside = "hold" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-point]: a table's points are [x, y], with x rising
 --> p.toml:2:31
  |
2 | table.T = { points = [[2, 0], [1, 5]], outside = "hold" }
  |                               ^^^^^^ x does not rise
"#]]
    );
}

#[test]
fn a_warning_that_is_not_there() {
    let sheet = r##"part = "p"
allow = ["no-exmaple"]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-word]: there is no warning `no-exmaple`
 --> p.toml:2:10
  |
2 | allow = ["no-exmaple"]
  |          ^^^^^^^^^^^^ not known
  |
  = help: did you mean `no-example`?
"#]]
    );
}

#[test]
fn a_code_without_its_sign() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { c = "b0 b1" } }
reading.r = { unit = "°C", formula = "c / 100.0", range = [-40, 85] }
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

warning[sign-missing]: `c` has no sign, but `r` is stated down to -40 °C
 --> p.toml:2:32
  |
2 | frame.F = { read = 2, code = { c = "b0 b1" } }
  |                                ^ read as unsigned: it can never be negative
3 | reading.r = { unit = "°C", formula = "c / 100.0", range = [-40, 85] }
  |         - its range begins below zero
  |
  = help: if the datasheet says two's complement, write `signed` in front of the layout
"#]]
    );
}

#[test]
fn a_gap_in_a_register() {
    let sheet = r##"part = "p"
register.MODE = { at = 1, field.RATE = { bits = "[5:3]" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
warning[bits-unaccounted]: bits [7:6] [2:0] of `MODE` belong to no field
 --> p.toml:2:10
  |
2 | register.MODE = { at = 1, field.RATE = { bits = "[5:3]" } }
  |          ^^^^ has a gap
  |
  = help: if they are reserved: reserved = { bits = "[7:6] [2:0]", write = 0 }
"#]]
    );
}

#[test]
fn a_quantity_that_says_nothing() {
    let sheet = r##"part = "p"
quantity.q = { unit = "V" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[quantity-way]: a quantity says in one way how it follows from fields
 --> p.toml:2:10
  |
2 | quantity.q = { unit = "V" }
  |          ^ needs `formula`, or `reading` and `code`
"#]]
    );
}

#[test]
fn a_quantity_through_a_reading_of_two_codes() {
    let sheet = r##"part = "p"
frame.F = { read = 2, code = { a = "b0", b = "b1" } }
reading.r = { unit = "V", formula = "a + b" }
register.R = { at = 1, field.LIMIT = { bits = "[7:0]" } }
quantity.q = { unit = "V", reading = "r", code = "LIMIT" }
example = { F = "01 02", gives = { r = "3 V" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[no-way-back]: `r` has not just one code
 --> p.toml:5:38
  |
5 | quantity.q = { unit = "V", reading = "r", code = "LIMIT" }
  |                                      ^^^ ambiguous: the code of the threshold
  |
  = help: give `formula` in place of `reading` and `code`
"#]]
    );
}

#[test]
fn a_quantity_that_no_field_can_take() {
    let sheet = r##"part = "p"
register.R = { at = 1, access = "read-only", field.LIMIT = { bits = "[7:0]" } }
quantity.q = { unit = "V", formula = "LIMIT * 0.1", moves = ["LIMT"] }
quantity.p = { unit = "V", formula = "LIMIT * 0.1", not_below = "r" }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: there is no field `LIMT`
 --> p.toml:3:62
  |
3 | quantity.q = { unit = "V", formula = "LIMIT * 0.1", moves = ["LIMT"] }
  |                                                              ^^^^^^ not a field
  |
  = help: did you mean `LIMIT`?

error[no-way-back]: `LIMIT` cannot be written
 --> p.toml:4:10
  |
4 | quantity.p = { unit = "V", formula = "LIMIT * 0.1", not_below = "r" }
  |          ^ it cannot be set
  |
  = help: say which fields may be changed: moves = ["…"]

error[unknown-name]: there is no other quantity `r`
 --> p.toml:4:65
  |
4 | quantity.p = { unit = "V", formula = "LIMIT * 0.1", not_below = "r" }
  |                                                                 ^^^ not a quantity
  |
  = help: did you mean `q`?
"#]]
    );
}

#[test]
fn a_computed_field_that_needs_a_frame() {
    let sheet = r##"part = "p"
frame.F = { read = 1, code = { a = "b0" } }
reading.r = { unit = "V", formula = "a" }
register.R = { at = 1, field.LIMIT = { bits = "[7:0]", computed = "a * 2" } }
example = { F = "01", gives = { r = "1 V" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[uses-code]: this formula uses a code or a reading, which only come with a frame
 --> p.toml:4:67
  |
4 | register.R = { at = 1, field.LIMIT = { bits = "[7:0]", computed = "a * 2" } }
  |                                                                   ^^^^^^^ fields, parameters and quantities can be used here
"#]]
    );
}

#[test]
fn a_poll_that_never_ends() {
    let sheet = r##"part = "p"
register.R = { at = 1, field.BUSY = { bits = "[0]" } }
routine.measure = [{ poll = "!BUSY", every = "2 ms" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unbounded]: this `poll` could go on for ever
 --> p.toml:3:20
  |
3 | routine.measure = [{ poll = "!BUSY", every = "2 ms" }]
  |                    ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ needs `within`
  |
  = help: give the longest time that the datasheet allows, such as within = "40 ms"
"#]]
    );
}

#[test]
fn a_step_that_does_two_things() {
    let sheet = r##"part = "p"
routine.measure = [{ write = [1], wait = "2 ms" }, { wait = "2 ms", verify = true }, { repeat = 3 }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[step-action]: a step does one thing
 --> p.toml:2:20
  |
2 | routine.measure = [{ write = [1], wait = "2 ms" }, { wait = "2 ms", verify = true }, { repeat = 3 }]
  |                    ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ has write and wait
  |
  = help: give one of write, set, read, wait, poll, line, expect, do

error[step-action]: `verify` says nothing about `wait`
 --> p.toml:2:78
  |
2 | routine.measure = [{ write = [1], wait = "2 ms" }, { wait = "2 ms", verify = true }, { repeat = 3 }]
  |                                                                              ^^^^ goes with set

error[step-action]: a step does one thing
 --> p.toml:2:86
  |
2 | routine.measure = [{ write = [1], wait = "2 ms" }, { wait = "2 ms", verify = true }, { repeat = 3 }]
  |                                                                                      ^^^^^^^^^^^^^^ does nothing
  |
  = help: give one of write, set, read, wait, poll, line, expect, do
"#]]
    );
}

#[test]
fn times_without_units() {
    let sheet = r##"part = "p"
register.R = { at = 1, field.BUSY = { bits = "[0]" } }
routine.measure = [{ wait = 3 }, { poll = "!BUSY", within = "2 hours" }, { wait = "5000 s" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-time]: a time has a unit
 --> p.toml:3:29
  |
3 | routine.measure = [{ wait = 3 }, { poll = "!BUSY", within = "2 hours" }, { wait = "5000 s" }]
  |                             ^ expected such as "2 ms", in µs, ms or s

error[bad-time]: `hours` is not a unit of time here
 --> p.toml:3:61
  |
3 | routine.measure = [{ wait = 3 }, { poll = "!BUSY", within = "2 hours" }, { wait = "5000 s" }]
  |                                                             ^^^^^^^^^ expected µs, ms, s or min
  |
  = help: a wait lasts up to an hour: 60 min

error[bad-time]: `5000 s` is not a valid time
 --> p.toml:3:83
  |
3 | routine.measure = [{ wait = 3 }, { poll = "!BUSY", within = "2 hours" }, { wait = "5000 s" }]
  |                                                                                   ^^^^^^^^ expected up to an hour
"#]]
    );
}

#[test]
fn a_routine_that_leads_back() {
    let sheet = r##"part = "p"
routine.a = [{ do = "b" }]
routine.b = [{ wait = "1 ms" }, { do = "a" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[cycle]: `b` leads back to itself
 --> p.toml:3:33
  |
3 | routine.b = [{ wait = "1 ms" }, { do = "a" }]
  |                                 ^^^^^^^^^^^^ a routine that never ends
"#]]
    );
}

#[test]
fn a_routine_that_goes_on_for_days() {
    let sheet = r##"part = "p"
routine.a = [{ wait = "1 ms", repeat = 1000 }]
routine.b = [{ do = "a", repeat = 1000 }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[too-many]: `b` would do more than 20000 steps
 --> p.toml:3:14
  |
3 | routine.b = [{ do = "a", repeat = 1000 }]
  |              ^^^^^^^^^^^^^^^^^^^^^^^^^^^ with all that it repeats
"#]]
    );
}

#[test]
fn a_routine_with_names_that_are_not_there() {
    let sheet = r##"part = "p"
register.R = { at = 1, access = "read-only", field.BUSY = { bits = "[0]" } }
frame.AIR = { registers = "R" }
routine.measure = [{ set = { BUSY = 1 } }, { read = "AIRE" }, { do = "mesure" }, { poll = "BUZY", within = "1 ms" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[not-writable]: `BUSY` is read-only
 --> p.toml:4:30
  |
4 | routine.measure = [{ set = { BUSY = 1 } }, { read = "AIRE" }, { do = "mesure" }, { poll = "BUZY", within = "1 ms" }]
  |                              ^^^^ it cannot be set

error[unknown-name]: there is no frame and no register `AIRE`
 --> p.toml:4:54
  |
4 | routine.measure = [{ set = { BUSY = 1 } }, { read = "AIRE" }, { do = "mesure" }, { poll = "BUZY", within = "1 ms" }]
  |                                                      ^^^^ nothing of that name
  |
  = help: did you mean `AIR`?

error[unknown-name]: there is no routine `mesure`
 --> p.toml:4:70
  |
4 | routine.measure = [{ set = { BUSY = 1 } }, { read = "AIRE" }, { do = "mesure" }, { poll = "BUZY", within = "1 ms" }]
  |                                                                      ^^^^^^^^ not a routine
  |
  = help: did you mean `measure`?

error[unknown-name]: `BUZY` is not known here
 --> p.toml:4:92
  |
4 | routine.measure = [{ set = { BUSY = 1 } }, { read = "AIRE" }, { do = "mesure" }, { poll = "BUZY", within = "1 ms" }]
  |                                                                                            ^^^^ not known
  |
  = help: did you mean `BUSY`?
"#]]
    );
}

#[test]
fn a_condition_that_reads_nothing() {
    let sheet = r##"part = "p"
parameter.limit = { default = 1 }
register.R = { at = 1, access = "write-only", field.KEY = { bits = "[0]" } }
routine.measure = [{ expect = "1 == 1" }, { poll = "KEY", within = "1 ms" }, { poll = "limit > 0", within = "1 ms" }]
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[no-code]: nothing is read for this condition
 --> p.toml:4:31
  |
4 | routine.measure = [{ expect = "1 == 1" }, { poll = "KEY", within = "1 ms" }, { poll = "limit > 0", within = "1 ms" }]
  |                               ^^^^^^^^ it holds always, or never
  |
  = help: name a field of a register, or a code of a frame

error[not-readable]: `KEY` is write-only
 --> p.toml:4:52
  |
4 | routine.measure = [{ expect = "1 == 1" }, { poll = "KEY", within = "1 ms" }, { poll = "limit > 0", within = "1 ms" }]
  |                                                    ^^^^^ nothing can be read for it

error[no-code]: nothing is read for this condition
 --> p.toml:4:87
  |
4 | routine.measure = [{ expect = "1 == 1" }, { poll = "KEY", within = "1 ms" }, { poll = "limit > 0", within = "1 ms" }]
  |                                                                                       ^^^^^^^^^^^ it holds always, or never
  |
  = help: name a field of a register, or a code of a frame
"#]]
    );
}

#[test]
fn a_modbus_register_that_is_none() {
    let sheet = r##"part = "p"
modbus = { unit = 1, numbering = "40001" }
register.A = { at = 30001, width = 16 }
register.B = { at = 40001 }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: 30001 is not an address here: holding registers are printed 40001 to 49999 here
 --> p.toml:3:21
  |
3 | register.A = { at = 30001, width = 16 }
  |                     ^^^^^ another was expected

error[out-of-range]: holding registers have words of 16 bits
 --> p.toml:4:10
  |
4 | register.B = { at = 40001 }
  |          ^ another was expected
"#]]
    );
}

#[test]
fn what_a_sheet_says_of_alerts_clocks_and_units() {
    let sheet = r##"part = "p"
i2c = { address = 0x2B, max_khz = 0, pec = "yes" }
modbus = { numbering = "from 0", unit_field = "UNITT", baud_field = 3 }
register.UNIT = { at = 7, width = 16, field.UNIT = { bits = "[7:0]" } }
[quantity.limit]
unit = "1"
formula = "UNIT * 2"
alert = "over"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[out-of-range]: max_khz is 1 to 200000, not 0
 --> p.toml:2:35
  |
2 | i2c = { address = 0x2B, max_khz = 0, pec = "yes" }
  |                                   ^ expected 1 to 200000

error[wrong-type]: expected true or false, found text
 --> p.toml:2:44
  |
2 | i2c = { address = 0x2B, max_khz = 0, pec = "yes" }
  |                                            ^^^^^ this is text

error[wrong-type]: expected text in quotes, found a whole number
 --> p.toml:3:69
  |
3 | modbus = { numbering = "from 0", unit_field = "UNITT", baud_field = 3 }
  |                                                                     ^ this is a whole number

error[unknown-word]: `over` is not a word that `alert` takes
 --> p.toml:8:9
  |
8 | alert = "over"
  |         ^^^^^^ not known here
  |
  = help: known words: above or below
"#]]
    );
}

#[test]
fn a_field_for_the_unit_that_there_is_not() {
    let sheet = r##"part = "p"
modbus = { numbering = "from 0", unit_field = "UNITT" }
register.UNIT = { at = 7, width = 16, field.UNIT = { bits = "[7:0]" } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[unknown-name]: there is no field `UNITT`
 --> p.toml:2:47
  |
2 | modbus = { numbering = "from 0", unit_field = "UNITT" }
  |                                               ^^^^^^^ not a field
  |
  = help: did you mean `UNIT`?
"#]]
    );
}

#[test]
fn what_a_frame_that_is_not_valid_gives() {
    let sheet = r##"part = "p"
i2c.address = 0x21
[register.RUN]
at = 1
field.POWER = { bits = "[1:0]", values = [{ code = 2, name = "on" }] }
[frame.F]
read = 2
otherwise = "no answer"
while = { POWER = 2 }
code = { f = "b0" }
[frame.G]
registers = "RUN"
while = { POWER = 2 }
otherwise = "reset value"
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[bad-otherwise]: the sheet states no reset value of this frame
  --> p.toml:14:13
   |
14 | otherwise = "reset value"
   |             ^^^^^^^^^^^^^ for frames of registers that each have `reset`
   |
   = help: give its registers `reset`
"#]]
    );
    let sheet = sheet.replace("reset value", "last value").replace("POWER = 2 }\ncode", "POWER = \"of\" }\ncode");
    assert_data_eq!(
        shown(&sheet),
        str![[r#"
error[unknown-name]: `POWER` has no value `of`
 --> p.toml:9:19
  |
9 | while = { POWER = "of" }
  |                   ^^^^ not a value of it
  |
  = help: did you mean `on`?
"#]]
    );
}

#[test]
fn a_unit_id_that_is_another_after_a_reset() {
    let sheet = r##"part = "p"
modbus = { numbering = "from 0", unit = 17, baud = 9600, unit_field = "UNIT", baud_field = "SPEED" }
register.LINE = { at = 4, width = 16, reset = 0x0115, field = { UNIT = { bits = "[7:0]" }, SPEED = { bits = "[15:8]", values = [{ code = 1, baud = 19200 }] } } }
"##;
    assert_data_eq!(
        shown(sheet),
        str![[r#"
error[delivered-otherwise]: `unit` is 17, but `UNIT` holds 21 after a reset
 --> p.toml:2:71
  |
2 | modbus = { numbering = "from 0", unit = 17, baud = 9600, unit_field = "UNIT", baud_field = "SPEED" }
  |                                                                       ^^^^^^ its reset value differs
  |
  = help: correct one of them, or remove `unit`: the reset value says it too

error[delivered-otherwise]: `baud` is 9600, but `SPEED` holds 19200 after a reset
 --> p.toml:2:92
  |
2 | modbus = { numbering = "from 0", unit = 17, baud = 9600, unit_field = "UNIT", baud_field = "SPEED" }
  |                                                                                            ^^^^^^^ its reset value differs
  |
  = help: correct one of them, or remove `baud`: the reset value says it too
"#]]
    );
}
