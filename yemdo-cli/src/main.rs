//! The `yemdo` command: arguments, files, colours and progress. What is computed, the library computes.

mod args;
mod check;
mod decode;
mod demo;
mod failure;
mod grid;
mod log;
mod plot;
mod sheets;
mod steps;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;

use args::{Args, Command};
use failure::Failure;

fn main() -> ExitCode {
    let args = Args::parse();
    args.color.apply();
    let done = match &args.command {
        Command::Check(check) => check::run(check),
        Command::Decode(decode) => decode::run(decode),
        Command::Demo(demo) => demo::run(demo),
    };
    match done {
        Ok(code) => ExitCode::from(code),
        // Whoever reads our output has had enough of it: that is no failure.
        Err(Failure::Closed) => ExitCode::SUCCESS,
        Err(failure) => {
            let _ = writeln!(anstream::stderr(), "{failure}");
            ExitCode::from(failure.code())
        }
    }
}
