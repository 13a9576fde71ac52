//! Runs every command that the README, the documents and `tests/commands/` show, and compares the whole output.
//!
//! In a Markdown file, a block marked `console` holds commands behind `$ ` and, below each, exactly what it
//! prints (both streams), then `[exit N]` where it fails. A block marked `toml file=NAME` or `csv file=NAME` is
//! a file for the commands after it. With `UPDATE=1` in the environment the files are rewritten to what came out.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicUsize, Ordering};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

/// A folder for one document's commands, with the sheets and the demo data in it.
fn workplace(name: &str) -> PathBuf {
    let folder = std::env::temp_dir().join(format!("yemdo-documents-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    for inside in ["sheets", "demo"] {
        fs::create_dir_all(folder.join(inside)).unwrap();
        for entry in fs::read_dir(root().join(inside)).unwrap().map(Result::unwrap).filter(|e| e.path().is_file()) {
            fs::copy(entry.path(), folder.join(inside).join(entry.file_name())).unwrap();
        }
    }
    folder
}

fn run(command: &str, folder: &Path) -> String {
    let bin = Path::new(env!("CARGO_BIN_EXE_yemdo")).parent().unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap_or_default());
    let output = Command::new("sh").args(["-c", &format!("( {command}\n) 2>&1")]).current_dir(folder).env("PATH", path).output().unwrap();
    let mut text = String::from_utf8(output.stdout).unwrap();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    if let Some(code) = output.status.code().filter(|code| *code != 0) {
        text.push_str(&format!("[exit {code}]\n"));
    }
    text
}

/// The document with the outputs of its commands put in.
fn replay(text: &str, folder: &Path) -> (String, usize) {
    let mut out = String::new();
    let mut commands = 0;
    let mut lines = text.lines().peekable();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        let Some(mark) = line.strip_prefix("```").filter(|mark| !mark.is_empty()) else { continue };
        let mut body = Vec::new();
        for line in lines.by_ref().take_while(|line| *line != "```") {
            body.push(line);
        }
        if let Some((_, name)) = mark.split_once(" file=") {
            fs::write(folder.join(name), body.join("\n") + "\n").unwrap();
        }
        if mark == "console" {
            let mut at = 0;
            while at < body.len() {
                let Some(command) = body[at].strip_prefix("$ ") else {
                    at += 1;
                    continue;
                };
                out.push_str(&format!("$ {command}\n"));
                let result = run(command, folder);
                out.push_str(&result);
                commands += 1;
                at += 1;
            }
        } else {
            body.iter().for_each(|line| out.push_str(&format!("{line}\n")));
        }
        out.push_str("```\n");
    }
    (out, commands)
}

fn check(number: usize, document: &Path) -> usize {
    let name = document.file_stem().unwrap().to_string_lossy().into_owned();
    let folder = workplace(&format!("{number}-{name}"));
    let text = fs::read_to_string(document).unwrap();
    let (replayed, commands) = replay(&text, &folder);
    let _ = fs::remove_dir_all(&folder);
    if std::env::var_os("UPDATE").is_some() {
        fs::write(document, &replayed).unwrap();
        return commands;
    }
    snapbox::assert_data_eq!(replayed, snapbox::Data::from(text).raw());
    commands
}

#[test]
fn documents_show_what_the_commands_print() {
    let mut documents = vec![root().join("README.md")];
    for folder in ["docs", "yemdo-cli/tests/commands"] {
        let entries = fs::read_dir(root().join(folder)).unwrap().map(|entry| entry.unwrap().path());
        documents.extend(entries.filter(|path| path.extension().is_some_and(|ext| ext == "md")));
    }
    documents.sort();
    // Each has a folder of its own, so several are run side by side.
    let (next, commands) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let work = || {
        while let Some((number, document)) = Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, documents.get(at)?))) {
            commands.fetch_add(check(number, document), Ordering::Relaxed);
        }
    };
    std::thread::scope(|scope| {
        let workers = std::thread::available_parallelism().map_or(2, usize::from);
        (0..workers).for_each(|_| drop(scope.spawn(work)));
    });
    let commands = commands.into_inner();
    assert!(commands >= 10, "only {commands} commands were run");
}
