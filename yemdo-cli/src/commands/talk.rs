//! `yemdo talk`: a console on one part, with the calls of the other commands.

mod words;

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, IsTerminal, Read as _, Write};

use anstyle::{AnsiColor, Style};
use yemdo::configure::WriteScope;
use yemdo::explain::explain;
use yemdo::record::parse_register;
use yemdo::{Part, RegisterId, State, parse_hex, to_hex, visible};
use yemdo_bus::{Device, Measurement};

use super::explain::table;
use crate::args::Talk;
use crate::failure::Failure;
use crate::input;
use crate::link::{AnyPort, Stop, tell_verdict};
use crate::show::grid::{Align, Cell, Grid};
use crate::show::{seen, suspects, writes};
use words::{COMMANDS, Words, helped};

/// Longest script that is read, in bytes.
const MAX_SCRIPT: u64 = 1 << 20;

/// Part and device of the console.
struct Console {
    device: Device<AnyPort>,
    /// Dumps by name.
    dumps: BTreeMap<String, Vec<(RegisterId, u64)>>,
}

pub(crate) fn run(args: &Talk) -> Result<u8, Failure> {
    let part = input::load(&args.sheet, args.variant.as_deref())?;
    let stop = Stop::default();
    let Some(connected) = args.link.connect(&part, &stop)? else {
        return Err(Failure::error("missing `--at PLACE`").help("such as --at i2c:1; --at stand-in needs no hardware"));
    };
    let mut device = connected.device;
    if !args.quiet {
        let start = device.port_mut().now();
        device.watched_by(seen::shown(false, start));
    }
    let about = format!("{} at {}", part.name(), connected.place);
    let mut console = Console { device, dumps: BTreeMap::new() };
    let ended = match &args.script {
        Some(path) => {
            let file = File::open(path).map_err(|error| Failure::file("read the script", path, &error))?;
            script(&mut console, BufReader::new(file.take(MAX_SCRIPT)), &path.display().to_string())
        }
        None if io::stdin().is_terminal() => interactive(&mut console, &about),
        None => script(&mut console, io::stdin().lock().take(MAX_SCRIPT), "standard input"),
    };
    tell_verdict(connected.rig.as_ref());
    ended
}

/// Commands from a file or a pipe: each is shown, and the first that fails ends it.
fn script(console: &mut Console, lines: impl BufRead, from: &str) -> Result<u8, Failure> {
    let bold = Style::new().bold();
    for (at, line) in lines.lines().enumerate() {
        let line = line.map_err(|error| Failure::error(format!("cannot read {from}: {error}")))?;
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        writeln!(anstream::stdout(), "{bold}> {}{bold:#}", visible(line))?;
        match console.command(line) {
            Ok(true) => {}
            Ok(false) => return Ok(0),
            Err(Failure::Told { message, help, code }) => {
                return Err(Failure::Told { message: format!("{from}, line {}: {message}", at + 1), help, code });
            }
            Err(other) => return Err(other),
        }
    }
    Ok(0)
}

/// Commands from the keyboard, with editing, history and completion.
fn interactive(console: &mut Console, about: &str) -> Result<u8, Failure> {
    let failure = |error: rustyline::error::ReadlineError| Failure::error(format!("cannot read the keyboard: {error}"));
    let mut editor = rustyline::Editor::<Words, rustyline::history::DefaultHistory>::new().map_err(failure)?;
    editor.set_helper(Some(Words::new(console.device.part())));
    let dim = Style::new().dimmed();
    writeln!(anstream::stdout(), "{about}  {dim}help lists the commands, Tab completes, Ctrl-D ends{dim:#}")?;
    let prompt = format!("{}> ", console.device.part().name());
    loop {
        match editor.readline(&prompt) {
            Ok(line) => {
                let line = line.trim();
                if line.is_empty() {
                    continue;
                }
                let _ = editor.add_history_entry(line);
                match console.command(line) {
                    Ok(true) => {}
                    Ok(false) => return Ok(0),
                    Err(Failure::Closed) => return Err(Failure::Closed),
                    Err(failure) => writeln!(anstream::stdout(), "{failure}")?,
                }
            }
            Err(rustyline::error::ReadlineError::Interrupted) => {}
            Err(rustyline::error::ReadlineError::Eof) => return Ok(0),
            Err(error) => return Err(failure(error)),
        }
    }
}

impl Console {
    fn part(&self) -> Part {
        self.device.part().clone()
    }

    /// Does a command; `false` where it is the last.
    fn command(&mut self, line: &str) -> Result<bool, Failure> {
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let rest = rest.trim();
        match word {
            "measure" => self.measured(|device| device.measure())?,
            "read" if rest.is_empty() => self.measured(|device| device.measure())?,
            "read" => rest.split_whitespace().try_for_each(|name| self.read(name))?,
            "write" => self.write(rest)?,
            "set" => self.set(rest)?,
            "run" => self.measured(|device| device.run(rest))?,
            "explain" => self.explain(rest)?,
            "mend" => self.mend(rest)?,
            "dump" => self.dump(rest)?,
            "compare" => self.compare(rest)?,
            "raw" => self.raw(rest)?,
            "help" => helped(&mut anstream::stdout())?,
            "quit" | "exit" => return Ok(false),
            _ => {
                let known = COMMANDS.iter().map(|(name, ..)| *name);
                let near = yemdo::nearest(word, known);
                let help = near.map_or("`help` lists the commands".to_owned(), |near| format!("did you mean `{near}`?"));
                return Err(Failure::refused(format!("`{word}` is not a command")).help(help));
            }
        }
        Ok(true)
    }

    fn measured(&mut self, what: impl FnOnce(&mut Device<AnyPort>) -> Result<Measurement, yemdo_bus::DeviceError>) -> Result<(), Failure> {
        let measured = what(&mut self.device).map_err(asked)?;
        let mut grid = Grid::new(0, &[Align::Left, Align::Left]);
        let bold = Style::new().bold();
        for reading in measured.readings() {
            grid.row(vec![Cell { text: reading.name.clone(), style: bold }, reading.to_string().into()]);
        }
        grid.write(&mut anstream::stdout())?;
        let suspects = measured.frames.iter().filter(|frame| frame.is_suspect());
        suspects::warn(&suspects.map(|frame| (frame.name().to_owned(), 1)).collect());
        Ok(())
    }

    /// Reads a register, a field or a frame.
    fn read(&mut self, name: &str) -> Result<(), Failure> {
        let part = self.part();
        if let Ok(frame) = part.frame(name) {
            let unmet = self.device.state().unmet(&part, frame);
            let read = self.measured(|device| device.read_frame(name));
            return read.map_err(|failure| match unmet.as_slice() {
                [] => failure,
                unmet => failure.help(format!("{name} is valid only while {}", part.settings_text(unmet))),
            });
        }
        if part.register(name).is_err()
            && let Ok(field) = part.field(name)
        {
            let homes: Vec<RegisterId> =
                part.registers().entries().filter(|(_, register)| register.fields().contains(&field)).map(|(id, _)| id).collect();
            self.device.read_registers(&homes).map_err(asked)?;
            if let Some(model) = part.fields().get(field) {
                let code = self.device.state().field(model);
                writeln!(anstream::stdout(), "{} = {} (code {code})", model.name(), model.value_text(code))?;
            }
            return Ok(());
        }
        let id = part.register(name).map_err(|error| Failure::refused(error.message()).help(error.help()))?;
        self.device.read_registers(&[id]).map_err(asked)?;
        self.tell_register(&part, id)
    }

    fn tell_register(&self, part: &Part, id: RegisterId) -> Result<(), Failure> {
        let Some(register) = part.registers().get(id) else { return Ok(()) };
        let value = self.device.state().register(register);
        let digits = register.bytes() * 2;
        let fields: Vec<String> = part
            .fields()
            .of(register.fields())
            .map(|field| format!("{} = {}", field.name(), field.value_text(self.device.state().field(field))))
            .collect();
        Ok(writeln!(anstream::stdout(), "{} = 0x{value:0digits$X}  {}", register.name(), fields.join(", "))?)
    }

    /// Writes registers as they are given, and reads them back.
    fn write(&mut self, rest: &str) -> Result<(), Failure> {
        let part = self.part();
        let mut wanted = Vec::new();
        for typed in rest.split_whitespace() {
            wanted.extend(
                parse_register(&part, typed).map_err(|error| Failure::refused(error.message).help(error.help.unwrap_or_default()))?,
            );
        }
        if wanted.is_empty() {
            return Err(Failure::refused("nothing to write").help("write REGISTER=VALUE, such as write CONFIG=0x1402"));
        }
        for (id, value) in wanted {
            self.device.write_register(id, value).map_err(asked)?;
            self.tell_register(&part, id)?;
        }
        Ok(())
    }

    /// Finds the mistake in the last measurement.
    fn mend(&mut self, rest: &str) -> Result<(), Failure> {
        let part = self.part();
        let Some(last) = super::mend::last(&self.device) else {
            return Err(Failure::refused("no measurement yet").help("run `measure` first"));
        };
        super::mend::console(&part, last, &words::settings(rest))
    }

    fn set(&mut self, rest: &str) -> Result<(), Failure> {
        // Values may have blanks in them: what follows a name goes up to the next one.
        let typed = words::settings(rest);
        let typed: Vec<&str> = typed.iter().map(String::as_str).collect();
        if typed.is_empty() {
            return Err(Failure::refused("nothing to set").help("set NAME=VALUE, such as set GAIN=fivefold"));
        }
        let done = self.device.configure_with(&typed, WriteScope::Changed).map_err(asked)?;
        let mut out = anstream::stdout();
        writes::results(&mut out, self.device.part(), &done)?;
        let green = AnsiColor::Green.on_default();
        match done.writes.len() {
            0 => writeln!(out, "{green}already set{green:#}")?,
            count => writeln!(out, "{green}{} written and verified{green:#}", yemdo::counted(count as u64, "register"))?,
        }
        Ok(())
    }

    fn explain(&mut self, rest: &str) -> Result<(), Failure> {
        let part = self.part();
        let ids = if rest.is_empty() {
            self.device.readable_registers()
        } else {
            rest.split_whitespace().map(|name| part.register(name)).collect::<Result<_, _>>()?
        };
        let values = self.device.read_registers(&ids).map_err(asked)?;
        let mut settings: State = self.device.state().clone();
        let mut out = anstream::stdout();
        for (id, value) in values {
            if let Some(explained) = explain(&part, id, value, &mut settings) {
                table(&mut out, &part, &explained)?;
            }
        }
        Ok(())
    }

    fn dump(&mut self, name: &str) -> Result<(), Failure> {
        let part = self.part();
        let values = self.device.read_registers(&self.device.readable_registers()).map_err(asked)?;
        let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Left]);
        for (register, value) in values.iter().filter_map(|(id, value)| Some((part.registers().get(*id)?, value))) {
            let digits = register.bytes() * 2;
            grid.row(vec![format!("0x{:02X}", register.address()).into(), register.name().into(), format!("0x{value:0digits$X}").into()]);
        }
        grid.write(&mut anstream::stdout())?;
        if !name.is_empty() {
            writeln!(anstream::stdout(), "kept as {}", visible(name))?;
            self.dumps.insert(name.to_owned(), values);
        }
        Ok(())
    }

    /// Compares a dump with another one, or with the registers as they are now.
    fn compare(&mut self, rest: &str) -> Result<(), Failure> {
        let part = self.part();
        let mut names = rest.split_whitespace();
        let kept: Vec<&str> = self.dumps.keys().map(String::as_str).collect();
        let help = if kept.is_empty() { "`dump NAME` keeps one".to_owned() } else { format!("there are {}", kept.join(", ")) };
        let one_of =
            |name: &str| self.dumps.get(name).cloned().ok_or_else(|| Failure::refused(format!("no dump `{name}`")).help(help.clone()));
        let first = one_of(names.next().unwrap_or(""))?;
        let second = names.next().map(one_of).transpose()?;
        let second = match second {
            Some(second) => second,
            None => self.device.read_registers(&self.device.readable_registers()).map_err(asked)?,
        };
        let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Left, Align::Left]);
        let yellow = AnsiColor::Yellow.on_default();
        let mut different = 0;
        for (id, before) in &first {
            let (Some(register), Some((_, after))) = (part.registers().get(*id), second.iter().find(|(other, _)| other == id)) else {
                continue;
            };
            if before == after {
                continue;
            }
            different += 1;
            let digits = register.bytes() * 2;
            let (mut was, mut is) = (State::reset(&part), State::reset(&part));
            was.set_register(register, *before);
            is.set_register(register, *after);
            let fields = part.fields().of(register.fields()).filter(|field| was.field(field) != is.field(field));
            let told: Vec<String> = fields
                .map(|field| format!("{}: {} → {}", field.name(), field.value_text(was.field(field)), field.value_text(is.field(field))))
                .collect();
            grid.row(vec![
                register.name().into(),
                format!("0x{before:0digits$X}").into(),
                Cell { text: format!("0x{after:0digits$X}"), style: yellow },
                told.join(", ").into(),
            ]);
        }
        grid.write(&mut anstream::stdout())?;
        if different == 0 {
            writeln!(anstream::stdout(), "no difference in {}", yemdo::counted(first.len() as u64, "register"))?;
        }
        Ok(())
    }

    /// Bytes as they are: `raw 12 34`, `raw 12 read 2`, `raw read 2`.
    fn raw(&mut self, rest: &str) -> Result<(), Failure> {
        let (bytes, count) = match rest.split_once("read") {
            Some((bytes, count)) => {
                let count = count.trim().parse::<usize>().ok().filter(|count| *count <= 4096);
                let failure = || Failure::refused("expected a number of bytes after `read`").help("raw 12 read 2");
                (bytes.trim(), count.ok_or_else(failure)?)
            }
            None => (rest, 0),
        };
        let bytes = if bytes.is_empty() { Vec::new() } else { parse_hex(bytes).map_err(|error| Failure::refused(error.to_string()))? };
        let answer = self.device.raw(&bytes, count).map_err(asked)?;
        if !answer.is_empty() {
            writeln!(anstream::stdout(), "{}", to_hex(&answer))?;
        }
        Ok(())
    }
}

/// In a console everything that fails is an answer, not a wrong argument.
fn asked(error: yemdo_bus::DeviceError) -> Failure {
    match Failure::from(error) {
        Failure::Told { message, help, .. } => Failure::Told { message, help, code: 1 },
        other => other,
    }
}
