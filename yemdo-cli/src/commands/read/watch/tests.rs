#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::time::{Duration, Instant};

use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use yemdo::view::ShownUnits;
use yemdo::{Digits, Part, State, Status};

use super::keys::press;
use super::state::{Happened, Look, Measured, Seen, View};
use super::{Keys, draw};
use yemdo_log::{Clocks, Moment};

const SHEET: &str = r#"
part = "probe-1"
frame.AIR = { read = 2, code = { temperature = "signed b0 b1" } }
reading.temperature = { unit = "°C", formula = "temperature * 0.01" }
"#;

fn view(look: Look) -> View {
    let part = Part::parse("probe.toml", SHEET).unwrap();
    let units = ShownUnits::plain(&part, &State::reset(&part));
    View::new([("north", &part, &units), ("south", &part, &units)].into_iter(), Clocks::new(true), look)
}

fn came(part: &str, at: i64, value: f64, status: Status) -> Happened {
    let name = "temperature".to_owned();
    let reading = Seen { name, value: Some(value), digits: Digits::Decimals(2), status, why: None, codes: "1234".into() };
    let (time, frames) = (Moment::of_micros(1_928_217_600_000_000 + at * 1_000_000), vec![("AIR".to_owned(), vec![0x04, 0xD2])]);
    Happened::Measured(Measured { part: part.into(), time, frames, readings: vec![reading], steps: None })
}

fn drawn(view: &View, width: u16, height: u16, now: Instant) -> String {
    let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
    terminal.draw(|frame| draw::draw(frame, view, now)).unwrap();
    terminal.backend().to_string()
}

#[test]
fn every_size_shows_what_matters_with_signs_and_without() {
    let start = Instant::now();
    for look in [Look { colours: true, signs: true }, Look { colours: false, signs: false }] {
        let mut view = view(look);
        for at in 0..700 {
            let status = if at > 690 { Status::Saturated } else { Status::Ok };
            view.take(came("north", at, 12.0 + (at % 50) as f64 / 10.0, status), start + Duration::from_millis(500 * at as u64));
        }
        let failed = Happened::Failed { part: "south".into(), cause: "check failed".into(), message: "CRC-8 of \u{1b}[2J".into() };
        view.take(failed, start);
        let now = start + Duration::from_secs(353);
        for (width, height) in [(40, 12), (57, 20), (80, 24), (140, 44), (300, 90), (1, 1), (12, 3)] {
            let text = drawn(&view, width, height, now);
            if width < 40 {
                continue;
            }
            for wanted in ["north", "16.90", "saturated", "south", "1 check failed", "temperature"] {
                assert!(text.contains(wanted), "{wanted} at {width}x{height}:\n{text}");
            }
            assert!(!text.contains('\u{1b}') && text.contains("04 D2") == (width >= 60), "{text}");
            assert!(look.signs || !text.contains(['█', '▁', '–', '›', '°']), "{text}");
        }
        // Statistics exclude saturated values, and the history ends with the last value.
        let wide = drawn(&view, 140, 44, now);
        assert!(wide.contains("12.00") && wide.contains("2.0 a second") && wide.contains("4 s old"), "{wide}");
        view.large = true;
        for (width, height) in [(40, 12), (140, 44), (3, 2)] {
            drawn(&view, width, height, now);
        }
    }
}

#[test]
fn keys_do_what_their_list_says() {
    let keys = Keys::default();
    let mut view = view(Look { colours: false, signs: true });
    view.take(came("north", 0, 20.0, Status::Ok), Instant::now());
    let key = |view: &mut View, code| press(view, KeyEvent::new(code, KeyModifiers::NONE), &keys);
    view.every = Some(500_000);
    assert!(!key(&mut view, KeyCode::Char('+')));
    assert_eq!((view.every, keys.control.every.load(std::sync::atomic::Ordering::Relaxed)), (Some(250_000), 250_000));
    key(&mut view, KeyCode::Char(' '));
    assert!(keys.control.paused.load(std::sync::atomic::Ordering::Relaxed) && drawn(&view, 80, 24, Instant::now()).contains("PAUSED"));
    key(&mut view, KeyCode::Char('u'));
    assert!(drawn(&view, 80, 24, Instant::now()).contains("68.00 °F"));
    key(&mut view, KeyCode::Char('m'));
    assert_eq!(view.marks, ["mark 1 at 2031-02-07T08:00:00.000Z: north/temperature 68.00 °F"]);
    key(&mut view, KeyCode::Enter);
    assert_eq!(*keys.detail.lock().unwrap(), Some(("north".into(), "temperature".into())));
    key(&mut view, KeyCode::Down);
    assert_eq!(*keys.detail.lock().unwrap(), Some(("south".into(), "temperature".into())));
    key(&mut view, KeyCode::Esc);
    key(&mut view, KeyCode::Char('r'));
    assert!(view.parts.iter().all(|part| part.good == 0) && keys.detail.lock().unwrap().is_none());
    assert!(key(&mut view, KeyCode::Char('q')));
    assert!(press(&mut view, KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL), &keys));
}
