//! The `yemdo` command: arguments, files, colours and progress. The library does all computations.

mod args;
mod commands;
mod failure;
mod input;
mod link;
mod output;
mod show;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;

use args::{Args, Command};
use failure::Failure;

/// Runs the command of the process's arguments.
pub fn run() -> ExitCode {
    let args = Args::parse();
    args.color.apply();
    let done = match &args.command {
        Command::Check(check) => commands::check::run(check),
        Command::Decode(decode) => commands::decode::run(decode),
        Command::Configure(configure) => commands::configure::run(configure),
        Command::Choose(choose) => commands::choose::run(choose),
        Command::Routine(routine) => commands::routine::run(routine),
        Command::Explain(explain) => commands::explain::run(explain),
        Command::Mend(mend) => commands::mend::run(mend),
        Command::Scan(scan) => commands::scan::run(scan),
        Command::Read(read) => commands::read::run(read),
        Command::Plot(plot) => commands::plot::run(plot),
        Command::Talk(talk) => commands::talk::run(talk),
        Command::StandIn(stand_in) => commands::stand_in::run(stand_in),
        Command::Trace(trace) => commands::trace::run(trace),
        Command::Import(import) => commands::import::run(import),
        Command::Emit(emit) => commands::emit::run(emit),
        Command::Demo(demo) => commands::demo::run(demo),
    };
    match done {
        Ok(code) => ExitCode::from(code),
        // The reader closed our output: no failure.
        Err(Failure::Closed) => ExitCode::SUCCESS,
        Err(failure) => {
            let _ = writeln!(anstream::stderr(), "{failure}");
            ExitCode::from(failure.code())
        }
    }
}
