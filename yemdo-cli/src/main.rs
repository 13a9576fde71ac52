//! The `yemdo` command: arguments, files, colours and progress. What is computed, the library computes.

mod args;
mod check;
mod choose;
mod configure;
mod decode;
mod demo;
mod diagram;
mod explain;
mod failure;
mod grid;
mod import;
mod log;
mod output;
mod plot;
mod routine;
mod schema;
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
        Command::Configure(wish) => configure::run(wish),
        Command::Choose(wish) => choose::run(wish),
        Command::Routine(routine) => routine::run(routine),
        Command::Explain(explain) => explain::run(explain),
        Command::Import(import) => import::run(import),
        Command::Schema(schema) => schema::run(schema),
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
