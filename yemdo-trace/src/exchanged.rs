//! Tables of transfers over SPI: the bytes of both directions, row by row.

use csv::{ByteRecord, ReaderBuilder};
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;

use crate::capture::{Captured, Item};
use crate::cells::{bytes, delimiter, is_hex, level};
use crate::error::CaptureError;
use crate::options::{CaptureOptions, Role};

/// The columns of the bytes.
pub(crate) struct SpiRows {
    mosi: Option<usize>,
    miso: Option<usize>,
    select: Option<usize>,
    hex: bool,
}

/// Number of rows that decide whether a table has levels or bytes.
const MANY: usize = 50;

impl SpiRows {
    /// The columns, if `lines` (those with the name of a bus line) have bytes and no levels.
    pub(crate) fn of(head: &str, headings: &[String], lines: &[usize], options: &CaptureOptions) -> Result<Option<Self>, CaptureError> {
        let column = |role: Role| lines.iter().copied().find(|at| headings.get(*at).and_then(|name| options.role_of(name)) == Some(role));
        let (mosi, miso) = (column(Role::Mosi), column(Role::Miso));
        let data: Vec<usize> = mosi.into_iter().chain(miso).collect();
        let mut rows =
            ReaderBuilder::new().delimiter(delimiter(head.lines().next().unwrap_or(""))).flexible(true).from_reader(head.as_bytes());
        let mut cells = rows
            .byte_records()
            .flatten()
            .take(MANY)
            .flat_map(|row| data.iter().filter_map(|at| row.get(*at).map(<[u8]>::to_vec)).collect::<Vec<_>>());
        if !cells.any(|cell| !cell.trim_ascii().is_empty() && level(&cell).is_err()) {
            return Ok(None);
        }
        let hex = is_hex(head, headings, &[mosi, miso], options)?;
        Ok(Some(Self { mosi, miso, select: column(Role::Cs), hex }))
    }

    pub(crate) fn understood(&self, headings: &[String]) -> String {
        let name = |column: Option<usize>| column.and_then(|at| headings.get(at)).map_or("none", String::as_str).to_owned();
        let form = if self.hex { "hex" } else { "decimal" };
        format!(", SPI, bytes to the part in `{}`, from the part in `{}`, in {form}", name(self.mosi), name(self.miso))
    }

    /// A row is a transfer.
    pub(crate) fn row(&self, row: &ByteRecord, at: u64, line: u64) -> Result<Item, CaptureError> {
        let cell = |column: Option<usize>| String::from_utf8_lossy(column.and_then(|at| row.get(at)).unwrap_or(b"")).trim().to_owned();
        let read = |column: Option<usize>| {
            let text = cell(column);
            let error = || CaptureError::new(format!("`{text}` is no sequence of bytes")).at(line).help("expected bytes such as 0x19 0xC0");
            bytes(&text, self.hex).ok_or_else(error)
        };
        let (mut out, mut back) = (read(self.mosi)?, read(self.miso)?);
        // Without a column, or with an empty cell, the line was idle.
        let length = out.len().max(back.len());
        out.resize(length, 0);
        back.resize(length, 0);
        let transfer = Transfer { bus: Bus::Spi, address: None, send: out, receive: 0, restart: false, discard: false };
        let captured = Captured::new(Traffic { at, transfer, outcome: Ok(back) }.into(), line);
        let select = Some(cell(self.select)).filter(|select| !select.is_empty());
        Ok(Item::Transfer(Captured { select, ..captured }))
    }
}
