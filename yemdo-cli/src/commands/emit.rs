//! `yemdo emit`: what is made from sheets.

use std::fs;
use std::path::Path;

use yemdo::Part;
use yemdo::emit::{Emitted, FirmwareOptions, Hal, Language, Only, Reals, firmware, vectors};

use crate::args::{Emit, Firmware, HalForm, RealsForm, What};
use crate::failure::Failure;
use crate::input::load;
use crate::output::{shown, tell_written, write_files, write_to};

pub(crate) fn run(args: &Emit) -> Result<u8, Failure> {
    match &args.what {
        What::Schema(args) => {
            write_to(args.out.as_deref(), &yemdo::emit::json_schema(), args.overwrite)?;
            Ok(0)
        }
        What::Page(args) => {
            let part = load(&args.sheet, args.variant.as_deref())?;
            let out = args.out.as_deref();
            let markdown = args.markdown || out.is_some_and(|out| out.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("md")));
            let text = if markdown { yemdo::emit::page_as_markdown(&part) } else { yemdo::emit::page(&part) };
            write_to(out, &text, args.overwrite || out.is_some_and(is_ours))?;
            Ok(0)
        }
        What::Rust(args) => emit(args, Language::Rust),
        What::C(args) => emit(args, Language::C),
    }
}

fn emit(args: &Firmware, language: Language) -> Result<u8, Failure> {
    let part = load(&args.sheet, args.variant.as_deref())?;
    let options = options(args, &part)?;
    let mut files = firmware(&part, language, &options).map_err(|error| Failure::Emit(Box::new(error)))?;
    if let Some(count) = args.vectors {
        files.extend(vectors(&part, language, &options, 1, count as usize).map_err(|error| Failure::Emit(Box::new(error)))?);
    }
    if args.verify {
        return verify(&args.out, &files);
    }
    fs::create_dir_all(&args.out).map_err(|error| Failure::file("make the folder", &args.out, &error))?;
    let files: Vec<_> = files.iter().map(|file| (args.out.join(&file.name), &file.text)).collect();
    let written: Vec<_> = files.iter().map(|(path, text)| (path.as_path(), text.as_bytes(), args.overwrite || is_ours(path))).collect();
    write_files(&written)?;
    for (path, _) in &files {
        tell_written(path);
    }
    Ok(0)
}

/// Whether a file was made by this command: then it may be made anew.
fn is_ours(path: &Path) -> bool {
    fs::read_to_string(path).is_ok_and(|text| {
        let made = |line: &str| line.contains("Made by yemdo ");
        text.lines().take(12).any(made) || text.lines().next_back().is_some_and(made)
    })
}

/// Whether all files are as they would be written.
fn verify(folder: &Path, files: &[Emitted]) -> Result<u8, Failure> {
    let mut stale = Vec::new();
    for file in files {
        let path = folder.join(&file.name);
        match fs::read(&path) {
            Ok(known) if known == file.text.as_bytes() => {}
            Ok(_) => stale.push(format!("{} is out of date", shown(&path))),
            Err(error) => stale.push(Failure::file("read", &path, &error).message()),
        }
    }
    if stale.is_empty() {
        return Ok(0);
    }
    Err(Failure::refused(stale.join("\n")).help("run it again without --verify"))
}

fn options(args: &Firmware, part: &Part) -> Result<FirmwareOptions, Failure> {
    let reals = match args.reals {
        RealsForm::Double => Reals::Double,
        RealsForm::Float => Reals::Single,
        RealsForm::None => Reals::Integer,
    };
    let hal = match args.hal {
        HalForm::Blocking => Hal::Blocking,
        HalForm::Async => Hal::Async,
        HalForm::None => Hal::None,
    };
    let mut options = FirmwareOptions::default().reals(reals).hal(hal);
    if let Some(bus) = args.bus {
        if part.buses().wire(bus).is_none() {
            return Err(Failure::error(format!("{} has no {} interface", part.name(), bus.name())));
        }
        options = options.bus(bus);
    }
    for typed in &args.step {
        let (name, number) = typed.split_once('=').map_or((None, typed.as_str()), |(name, number)| (Some(name), number));
        let step = number.trim().parse::<f64>().ok().filter(|step| step.is_finite() && *step > 0.0);
        let step = step.ok_or_else(|| Failure::error(format!("`{number}` is not a step")).help("write a number above 0, such as 0.01"))?;
        match name {
            Some(name) => options = options.step_for(part.reading(name.trim())?, step),
            None => options = options.step(step),
        }
    }
    if args.reals != RealsForm::None && !args.step.is_empty() {
        return Err(Failure::error("--step applies to integer readings").help("add --reals none"));
    }
    if args.only.iter().any(|name| name == "decode") {
        options = options.only(Only::Decode);
    } else if !args.only.is_empty() {
        let (mut readings, mut routines) = (Vec::new(), Vec::new());
        for name in &args.only {
            match (part.reading_or_derived(name), part.routine(name)) {
                (Ok(reading), Ok(routine)) => {
                    readings.push(reading);
                    routines.push(routine);
                }
                (Ok(reading), Err(_)) => readings.push(reading),
                (Err(_), Ok(routine)) => routines.push(routine),
                (Err(error), Err(_)) => {
                    let routines: Vec<&str> = part.routines().iter().map(|routine| routine.name()).collect();
                    let help = format!("{}; its routines: {}", error.help(), routines.join(", "));
                    return Err(Failure::error(format!("{} has no reading and no routine `{name}`", part.name())).help(help));
                }
            }
        }
        options = options.only(Only::These { readings, routines });
    }
    Ok(options)
}
