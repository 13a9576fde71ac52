//! Frames that may be no answer: only zeros or only ones, without a check.

use std::collections::BTreeMap;
use std::io::Write;

use anstyle::AnsiColor;
use yemdo::{counted, visible};

/// Warns on standard error; the counts are by the names of the frames.
pub(crate) fn warn(suspects: &BTreeMap<String, u64>) {
    let yellow = AnsiColor::Yellow.on_default();
    for (name, count) in suspects {
        let name = visible(name);
        let _ = writeln!(
            anstream::stderr(),
            "{yellow}warning{yellow:#}: {name}: only zeros or only ones in {}, and no check: the part may not have answered\n  \
             help: if that is a measurement, add blank = \"good\" to the frame",
            counted(*count, "frame"),
        );
    }
}
