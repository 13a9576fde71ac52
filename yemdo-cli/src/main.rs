//! The `yemdo` command. All of it stands in the library of this package: that is compiled while the core is still being optimised, which
//! a program, being linked, would have to wait for.

use std::process::ExitCode;

fn main() -> ExitCode {
    yemdo_cli::run()
}
