//! Routines in Rust: the known state of the part, state machines, and a driver over embedded-hal.

use super::super::code::{Ask, Failure};
use super::super::names::camel;
use super::super::{Firmware, Hal};
use super::device::{device, modbus_asks, requests};
use super::expr::Printer;
use super::lines::Lines;
use super::machine::run;
use crate::bus::Bus;

pub(super) fn failure(failure: Failure) -> String {
    let words = Failure::ALL.iter().find(|(known, ..)| *known == failure).map_or("", |(_, words, _)| words);
    camel(words)
}

pub(super) fn print(firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    let Some(bus) = firmware.bus else { return };
    device(firmware, shared, out);
    out.blank();
    out.doc(0, &["Cause of a failed routine.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Failure {");
    for (one, _, doc) in Failure::ALL {
        out.doc(1, &[format!("{}.", super::super::readings::capital(doc))]);
        out.line(&format!("    {},", failure(one)));
    }
    out.line("}");
    requests(firmware, bus, out);
    for machine in &firmware.module.machines {
        run(machine, firmware, shared, out);
    }
    if firmware.hal != Hal::None {
        driver(firmware, bus, out);
    }
}

/// A driver over the traits of embedded-hal.
fn driver(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    let asynchronous = firmware.hal == Hal::Async;
    let hal = if asynchronous { "embedded_hal_async" } else { "embedded_hal" };
    let (keyword, awaits) = if asynchronous { ("async ", ".await") } else { ("", "") };
    let line = firmware.module.asks(&|ask| matches!(ask, Ask::Line(..)));
    let waits = firmware.module.asks(&|ask| matches!(ask, Ask::Wait(..))) || line;
    out.blank();
    out.doc(0, &["Error of the driver.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Error<E> {");
    out.doc(1, &["Error of the bus.".into()]);
    out.line("    Bus(E),");
    out.doc(1, &["A routine failed.".into()]);
    out.line("    Failed(Failure),");
    out.line("}");
    if bus == Bus::Modbus {
        modbus_trait(asynchronous, out);
    }
    let (generic, member, bound, error) = match bus {
        Bus::I2c => ("I2C", "i2c", format!("{hal}::i2c::I2c"), "I2C::Error"),
        Bus::Spi => ("SPI", "spi", format!("{hal}::spi::SpiDevice"), "SPI::Error"),
        Bus::Modbus => ("M", "client", "ModbusClient".to_owned(), "M::Error"),
    };
    let mut generics = vec![(generic, bound.clone())];
    if waits {
        generics.push(("D", format!("{hal}::delay::DelayNs")));
    }
    if line {
        generics.push(("P", "embedded_hal::digital::InputPin".to_owned()));
    }
    let names: Vec<&str> = generics.iter().map(|(name, _)| *name).collect();
    out.blank();
    out.doc(0, &["The part on a bus.".into()]);
    out.line("#[derive(Debug)]");
    out.line(&format!("pub struct Driver<{}> {{", names.join(", ")));
    out.line(&format!("    {member}: {generic},"));
    if waits {
        out.line("    delay: D,");
    }
    if line {
        out.line("    line: P,");
    }
    match bus {
        Bus::I2c => out.line("    address: u8,"),
        Bus::Modbus => out.line("    unit: u8,"),
        Bus::Spi => {}
    }
    out.doc(1, &["Known state of the part.".into()]);
    out.line("    pub device: Device,");
    out.line("}");
    out.blank();
    out.line(&format!("impl<{0}> Driver<{0}>", names.join(", ")));
    out.line("where");
    for (name, bound) in &generics {
        out.line(&format!("    {name}: {bound},"));
    }
    out.line("{");
    let mut params = vec![format!("{member}: {generic}")];
    let mut inits = vec![member.to_owned()];
    if waits {
        params.push("delay: D".into());
        inits.push("delay".into());
    }
    if line {
        params.push("line: P".into());
        inits.push("line".into());
    }
    match bus {
        Bus::I2c => inits.push("address: I2C_ADDRESS".into()),
        Bus::Modbus => inits.push("unit: MODBUS_UNIT".into()),
        Bus::Spi => {}
    }
    inits.push("device: Device::RESET".into());
    out.doc(1, &["A part after a reset.".into()]);
    out.line(&format!("    pub const fn new({}) -> Self {{", params.join(", ")));
    out.line("        Self {");
    inits.iter().for_each(|init| out.line(&format!("            {init},")));
    out.line("        }");
    out.line("    }");
    if bus == Bus::I2c {
        out.line("");
        out.doc(1, &["Selects another address, for other pin levels.".into()]);
        out.line("    #[must_use]");
        out.line("    pub fn at(self, address: u8) -> Self {");
        out.line("        Self { address, ..self }");
        out.line("    }");
    }
    out.line("");
    out.doc(1, &["Returns the bus and the other parts of the driver.".into()]);
    let parts: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
    let values: Vec<String> = params.iter().map(|param| format!("self.{}", param.split(':').next().unwrap_or(""))).collect();
    if parts.len() == 1 {
        out.line(&format!("    pub fn release(self) -> {} {{", parts.join("")));
        out.line(&format!("        {}", values.join("")));
    } else {
        out.line(&format!("    pub fn release(self) -> ({}) {{", parts.join(", ")));
        out.line(&format!("        ({})", values.join(", ")));
    }
    out.line("    }");
    for machine in &firmware.module.machines {
        out.line("");
        out.doc(
            1,
            &[
                format!("Runs routine {}.", machine.name.rust),
                String::new(),
                "# Errors".into(),
                "[`Error`]; the routine is over then.".into(),
            ],
        );
        out.line(&format!("    pub {keyword}fn {}(&mut self) -> Result<(), Error<{error}>> {{", machine.name.rust));
        out.line(&format!("        let mut run = {}::new();", machine.ty.rust));
        out.line("        let mut answered = true;");
        out.line("        loop {");
        out.line("            let request = run");
        out.line("                .step(&mut self.device, answered)");
        out.line("                .map_err(Error::Failed)?;");
        out.line("            if matches!(request, Request::Finished) {");
        out.line("                return Ok(());");
        out.line("            }");
        out.line(&format!("            answered = self.serve(request){awaits}?;"));
        out.line("        }");
        out.line("    }");
    }
    out.line("");
    out.doc(1, &["Serves a request of a routine; `false` if the part does not answer.".into()]);
    out.line(&format!("    {keyword}fn serve(&mut self, request: Request<'_>) -> Result<bool, Error<{error}>> {{"));
    out.line("        match request {");
    match bus {
        Bus::I2c => {
            out.line("            Request::Transfer { write, read } => {");
            out.line("                let done = if read.is_empty() {");
            out.line(&format!("                    self.i2c.write(self.address, write){awaits}"));
            out.line("                } else if write.is_empty() {");
            out.line(&format!("                    self.i2c.read(self.address, read){awaits}"));
            out.line("                } else {");
            out.line(&format!("                    self.i2c.write_read(self.address, write, read){awaits}"));
            out.line("                };");
            out.line("                match done {");
            out.line("                    Ok(()) => Ok(true),");
            out.line("                    Err(error) => match embedded_hal::i2c::Error::kind(&error) {");
            out.line("                        embedded_hal::i2c::ErrorKind::NoAcknowledge(_) => Ok(false),");
            out.line("                        _ => Err(Error::Bus(error)),");
            out.line("                    },");
            out.line("                }");
            out.line("            }");
        }
        Bus::Spi => {
            out.line("            Request::Transfer { write, read } => {");
            out.line(
                &format!("                let write = {hal}::spi::Operation::Write(write);")
                    .replace("embedded_hal_async::spi::Operation", "embedded_hal_async::spi::Operation"),
            );
            out.line(&format!("                let read = {hal}::spi::Operation::Read(read);"));
            out.line(&format!("                let done = self.spi.transaction(&mut [write, read]){awaits};"));
            out.line("                done.map(|()| true).map_err(Error::Bus)");
            out.line("            }");
        }
        Bus::Modbus => {
            let (reads, writes) = modbus_asks(firmware);
            if reads {
                out.line("            Request::ModbusRead {");
                out.line("                function,");
                out.line("                address,");
                out.line("                count,");
                out.line("                data,");
                out.line("            } => {");
                if asynchronous {
                    out.line("                let done = self");
                    out.line("                    .client");
                    out.line("                    .read(self.unit, function, address, count, data)");
                    out.line("                    .await;");
                } else {
                    out.line("                let done = self.client.read(self.unit, function, address, count, data);");
                }
                out.line("                done.map_err(Error::Bus)");
                out.line("            }");
            }
            if writes {
                out.line("            Request::ModbusWrite { address, data } => {");
                out.line(&format!("                let done = self.client.write(self.unit, address, data){awaits};"));
                out.line("                done.map_err(Error::Bus)");
                out.line("            }");
            }
        }
    }
    if firmware.module.asks(&|ask| matches!(ask, Ask::Wait(..))) {
        out.line("            Request::Wait(micros) => {");
        out.line(&format!("                self.delay.delay_us(micros){awaits};"));
        out.line("                Ok(true)");
        out.line("            }");
    }
    if line {
        out.line("            Request::Line { high, micros } => {");
        out.line("                let mut passed = 0;");
        out.line("                // A line that cannot be read counts as one that does not come.");
        out.line("                while self.line.is_high().ok() != Some(high) {");
        out.line("                    if passed >= micros {");
        out.line("                        return Ok(false);");
        out.line("                    }");
        out.line(&format!("                    self.delay.delay_us(100){awaits};"));
        out.line("                    passed += 100;");
        out.line("                }");
        out.line("                Ok(true)");
        out.line("            }");
    }
    out.line("            Request::Finished => Ok(true),");
    out.line("        }");
    out.line("    }");
    out.line("}");
}

fn modbus_trait(asynchronous: bool, out: &mut Lines) {
    let keyword = if asynchronous { "async " } else { "" };
    out.blank();
    out.doc(0, &["A client of Modbus, over a serial line or TCP: yours.".into()]);
    if asynchronous {
        out.line("#[allow(async_fn_in_trait)] // nothing here is sent to another thread");
    }
    out.line("pub trait ModbusClient {");
    out.doc(1, &["What can go wrong with the line.".into()]);
    out.line("    type Error;");
    out.line("");
    out.doc(
        1,
        &[
            "Reads registers, high byte first, or bits, by a function from 1 to 4; `false` without a response.".into(),
            String::new(),
            "# Errors".into(),
            "The line failed, or the response is invalid.".into(),
        ],
    );
    out.line(&format!("    {keyword}fn read("));
    for param in ["&mut self", "unit: u8", "function: u8", "address: u16", "count: u16", "data: &mut [u8]"] {
        out.line(&format!("        {param},"));
    }
    out.line("    ) -> Result<bool, Self::Error>;");
    out.line("");
    out.doc(
        1,
        &[
            "Writes registers, high byte first; `false` without a response.".into(),
            String::new(),
            "# Errors".into(),
            "The line failed, or the response is invalid.".into(),
        ],
    );
    out.line(&format!("    {keyword}fn write(&mut self, unit: u8, address: u16, data: &[u8]) -> Result<bool, Self::Error>;"));
    out.line("}");
}
