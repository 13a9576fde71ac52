//! `yemdo schema`: the JSON Schema of sheets.

use crate::args::Schema;
use crate::failure::Failure;
use crate::output::write_to;

pub(crate) fn run(args: &Schema) -> Result<u8, Failure> {
    write_to(args.out.as_deref(), &yemdo::emit::json_schema(), args.overwrite)?;
    Ok(0)
}
