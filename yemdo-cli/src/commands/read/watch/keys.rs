//! Keys of the live view.

use std::sync::atomic::Ordering;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::Keys;
use super::state::View;

/// Keys with their actions.
pub(super) const KEYS: [(&str, &str); 11] = [
    ("q", "quit (also Ctrl-C)"),
    ("space", "pause or resume"),
    ("+ -", "halve or double the interval"),
    ("up down", "select a reading"),
    ("enter", "show it large, with its bits and every step"),
    ("page", "page up, page down: more of its steps"),
    ("esc", "back"),
    ("u", "its next unit"),
    ("m", "mark this moment; marks are printed on exit"),
    ("r", "reset statistics and errors"),
    ("?", "this list"),
];

/// The shortest and longest times from one measurement to the next, in microseconds.
const EVERY: (u64, u64) = (10_000, 3_600_000_000);

/// Performs the action of a key; true to quit.
pub(super) fn press(view: &mut View, key: KeyEvent, keys: &Keys) -> bool {
    view.note = None;
    match key.code {
        KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => return true,
        KeyCode::Char('q') => return true,
        KeyCode::Char(' ' | 'p') => {
            view.paused = !view.paused;
            keys.control.paused.store(view.paused, Ordering::Relaxed);
        }
        KeyCode::Char('+' | '=') => every(view, keys, |every| every / 2),
        KeyCode::Char('-') => every(view, keys, |every| every * 2),
        KeyCode::Up | KeyCode::Char('k') => view.select(-1),
        KeyCode::Down | KeyCode::Char('j') => view.select(1),
        KeyCode::PageDown => view.scroll += 8,
        KeyCode::PageUp => view.scroll = view.scroll.saturating_sub(8),
        KeyCode::Enter => view.large = !view.large,
        KeyCode::Esc => (view.large, view.help) = (false, false),
        KeyCode::Char('u') => view.next_unit(),
        KeyCode::Char('m') => view.mark(),
        KeyCode::Char('r') => view.reset(),
        KeyCode::Char('?' | 'h') => view.help = !view.help,
        _ => {}
    }
    let detail = view.selected().filter(|_| view.large).map(|(part, reading)| (part.name.clone(), reading.name.clone()));
    let changed = keys.detail.lock().map(|mut known| std::mem::replace(&mut *known, detail.clone()) != detail).unwrap_or(false);
    if changed {
        view.parts.iter_mut().for_each(|part| part.steps = None);
    }
    false
}

fn every(view: &mut View, keys: &Keys, change: fn(u64) -> u64) {
    // As fast as the part measures is taken for a second.
    let new = change(view.every.unwrap_or(1_000_000)).clamp(EVERY.0, EVERY.1);
    view.every = Some(new);
    keys.control.every.store(new, Ordering::Relaxed);
}
