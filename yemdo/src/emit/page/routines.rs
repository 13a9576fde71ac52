//! Routines as operations of the bus, one after the other, on an axis of time.

use maud::{Markup, html};

use super::readings::short;
use crate::bus::Operation;
use crate::ground::words::counted;
use crate::model::part::Part;
use crate::model::state::State;
use crate::routine::{Request, Runner};

const WIDTH: f64 = 640.0;

pub(super) fn section(part: &Part) -> Markup {
    html! {
        @for (id, routine) in part.routines.entries() {
            @let laid = Runner::new(part, id, State::reset(part)).map_err(|error| error.to_string()).and_then(|runner| runner.dry_run().map_err(|error| error.to_string()));
            article id=(super::anchor("routine", routine.name())) {
                h3 { (routine.name()) }
                @match laid {
                    Ok((requests, total)) => (one(&requests, total)),
                    Err(why) => p .note { "With the reset values it fails: " (why) "." },
                }
            }
        }
    }
}

fn millis(micros: u64) -> String {
    format!("{} ms", short(micros as f64 / 1000.0))
}

fn one(requests: &[Request], total: (u64, u64)) -> Markup {
    let time = if total.0 == total.1 { millis(total.1) } else { format!("{} to {}", millis(total.0), millis(total.1)) };
    html! {
        p { (counted(requests.len(), "operation")) ", " (time) ", with the reset values and every answer as expected." }
        (axis(requests, total.0))
        div .scroll { table .requests {
            thead { tr { th { "at" } th { "at the latest" } th { "operation" } th { "purpose" } } }
            tbody {
                @for request in requests {
                    tr {
                        td .number { (millis(request.at.0)) }
                        td .number { @if request.at.1 != request.at.0 { (millis(request.at.1)) } }
                        td .code { (request.operation.text(millis)) }
                        td { @if let Some(condition) = &request.only_if { "if " code { (condition) } ": " } (request.meaning) }
                    }
                }
            }
        } }
    }
}

/// The earliest times as an axis: transfers are tall, waits low.
fn axis(requests: &[Request], whole: u64) -> Markup {
    let x = |micros: u64| 10.0 + micros as f64 / whole.max(1) as f64 * (WIDTH - 20.0);
    let ends = requests.iter().skip(1).map(|request| request.at.0).chain([whole]);
    html! {
        figure {
            svg viewBox=(format!("0 0 {WIDTH} 64")) role="img" aria-label="The routine on an axis of time" {
                line .tick x1="10" x2=(WIDTH - 10.0) y1="40" y2="40" {}
                @for (index, (request, end)) in requests.iter().zip(ends).enumerate() {
                    @let (from, to) = (x(request.at.0), x(end).max(x(request.at.0) + 2.0));
                    @let kind = if matches!(request.operation, Operation::Transfer(_)) { "transfer" } else { "wait" };
                    rect class=(kind) x=(short(from)) width=(short(to - from)) y=(if kind == "transfer" { "14" } else { "24" }) height=(if kind == "transfer" { "26" } else { "16" }) {
                        title { (index + 1) ": " (request.operation.text(millis)) }
                    }
                }
                text x="10" y="58" { "0" }
                text x=(WIDTH - 10.0) y="58" text-anchor="end" { (millis(whole)) }
            }
            figcaption { "Earliest times. Tall bars: transfers; low bars: waits." }
        }
    }
}
