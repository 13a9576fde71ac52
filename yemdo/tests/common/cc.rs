//! Flags of the C compiler, shared by all tests that compile emitted C.

/// All warnings are errors, and undefined behavior ends the program.
pub(crate) const CAREFUL: &[&str] = &[
    "-std=c99",
    "-Wall",
    "-Wextra",
    "-Wconversion",
    "-Wsign-conversion",
    "-Wshadow",
    "-Wdouble-promotion",
    "-pedantic",
    "-Werror",
    "-fsanitize=undefined",
    "-fno-sanitize-recover=undefined",
];
