//! Routines in C: the known state of the part, state machines, and loops that drive them.

use super::super::code::{Ask, Failure, Sent, Type};
use super::super::{Firmware, names::upper};
use super::Lines;
use super::expr::{Printer, type_name};
use super::machine::{print, state_type};
use crate::bus::Bus;

pub(super) fn failure(prefix: &str, failure: Failure) -> String {
    let words = Failure::ALL.iter().find(|(known, ..)| *known == failure).map_or("", |(_, words, _)| words);
    format!("{prefix}_FAILED_{}", upper(words))
}

/// Kinds of requests of the part's routines.
struct Kinds {
    pub(super) line: bool,
    pub(super) modbus: bool,
}

impl Kinds {
    pub(super) fn of(firmware: &Firmware) -> Self {
        let line = firmware.module.asks(&|ask| matches!(ask, Ask::Line(..)));
        Self { line, modbus: firmware.bus == Some(Bus::Modbus) }
    }
}

pub(super) fn header(firmware: &Firmware, out: &mut Lines) {
    let Some(bus) = firmware.bus else { return };
    let (p, up) = (&firmware.prefix.lower, &firmware.prefix.upper);
    let kinds = Kinds::of(firmware);
    out.blank();
    out.comment(&["Known state of the part. Initialize it with `..._device_reset`.".into()]);
    out.line("typedef struct {");
    for (member, ty) in members(firmware) {
        out.line(&format!("    {ty} {member};"));
    }
    out.line(&format!("}} {p}_device_t;"));
    out.blank();
    out.line(&format!("{p}_device_t {p}_device_reset(void);"));
    for calls in firmware.module.frames.iter().filter(|calls| calls.readings.is_some()) {
        let Some((_, ty, _)) = &calls.readings else { continue };
        out.blank();
        out.comment(&[format!("Readings of the last frame. Returns `false` before {} or a frame that they need was read.", calls.var)]);
        out.wrapped(&format!("bool {p}_device_{}_readings(const {p}_device_t *device, {} *readings);", calls.var, ty.c), 0);
    }
    out.blank();
    out.comment(&["Result of a routine.".into()]);
    out.line("typedef enum {");
    out.line(&format!("    {up}_SUCCEEDED = 0,"));
    for (one, _, doc) in Failure::ALL {
        out.line(&format!("    {}, /* {doc} */", failure(up, one)));
    }
    out.line(&format!("    {up}_FAILED_BUS /* the bus itself failed */"));
    out.line(&format!("}} {p}_outcome_t;"));
    out.blank();
    out.comment(&["Next request of a routine.".into()]);
    out.line("typedef enum {");
    out.line(&format!("    {up}_FINISHED, /* nothing: it is done */"));
    if kinds.modbus {
        out.line(&format!("    {up}_MODBUS_READ, /* read `count` registers or bits at `address` by `function`, into `read` */"));
        out.line(&format!("    {up}_MODBUS_WRITE, /* write the registers at `address` with the bytes in `write` */"));
    } else {
        out.line(&format!("    {up}_TRANSFER, /* write, then read; either may be empty */"));
    }
    out.line(&format!("    {up}_WAIT{} /* let `micros` pass */", if kinds.line { "," } else { "" }));
    if kinds.line {
        out.line(&format!("    {up}_LINE /* wait until the data-ready line is `high`, for no longer than `micros` */"));
    }
    out.line(&format!("}} {p}_request_kind_t;"));
    out.blank();
    out.line("typedef struct {");
    out.line(&format!("    {p}_request_kind_t kind;"));
    out.line("    const uint8_t *write;");
    out.line("    uint16_t write_length;");
    out.line("    uint8_t *read;");
    out.line("    uint16_t read_length;");
    out.line("    uint32_t micros;");
    if kinds.modbus {
        out.line("    uint8_t function;");
        out.line("    uint16_t address;");
        out.line("    uint16_t count;");
    }
    if kinds.line {
        out.line("    bool high;");
    }
    out.line(&format!("}} {p}_request_t;"));
    for machine in &firmware.module.machines {
        out.blank();
        out.comment(&[format!("A run of {}; initialize it with zeros.", machine.name.c)]);
        out.line("typedef struct {");
        out.line(&format!("    {} at;", state_type(machine)));
        for (name, ty) in &machine.keeps {
            out.line(&format!("    {} {name};", type_name(*ty)));
        }
        if machine.out > 0 {
            out.line(&format!("    uint8_t out[{}];", machine.out));
        }
        if machine.buffer > 0 {
            out.line(&format!("    uint8_t buffer[{}];", machine.buffer));
        }
        out.line(&format!("}} {};", machine.ty.c));
        out.blank();
        out.comment(&[
            machine.doc.join(" "),
            String::new(),
            "Returns the next request. `answered` is `true` if the last request was acknowledged in time; it is ignored in the first call."
                .into(),
        ]);
        out.wrapped(
            &format!(
                "{p}_outcome_t {}_step({} *run, {p}_device_t *device, bool answered, {p}_request_t *request);",
                machine.name.c, machine.ty.c
            ),
            0,
        );
    }
    out.blank();
    out.comment(&["Result of a transfer.".into()]);
    out.line("typedef enum {");
    out.line(&format!("    {up}_BUS_DONE,"));
    out.line(&format!("    {up}_BUS_NO_ANSWER, /* not acknowledged, or no response */"));
    out.line(&format!("    {up}_BUS_ERROR"));
    out.line(&format!("}} {p}_bus_result_t;"));
    out.blank();
    out.comment(&["The part on a bus: your functions, and their data in `user`.".into()]);
    out.line("typedef struct {");
    out.line("    void *user;");
    match bus {
        Bus::I2c => {
            out.line("    /* Writes bytes, then reads others after a repeated start; where one length is 0, only the other is done. */");
            let alone = |ask: &Ask| matches!(ask, Ask::Transfer(Sent::Nothing, None));
            if firmware.module.asks(&alone) {
                out.line("    /* If both lengths are 0, it sends the address alone. */");
            }
            out.line(&format!(
                "    {p}_bus_result_t (*transfer)(void *user, uint8_t address, const uint8_t *write, uint16_t write_length,"
            ));
            out.line("            uint8_t *read, uint16_t read_length);");
            out.line("    uint8_t address;");
        }
        Bus::Spi => {
            out.line("    /* Selects the part, writes bytes, reads others, and lets go of it. */");
            out.line(&format!("    {p}_bus_result_t (*transfer)(void *user, const uint8_t *write, uint16_t write_length, uint8_t *read,"));
            out.line("            uint16_t read_length);");
        }
        Bus::Modbus => {
            out.line("    /* Reads registers, high byte first, or bits, by a function from 1 to 4. */");
            out.line(&format!(
                "    {p}_bus_result_t (*read)(void *user, uint8_t unit, uint8_t function, uint16_t address, uint16_t count,"
            ));
            out.line("            uint8_t *data, uint16_t length);");
            out.line("    /* Writes registers, high byte first. */");
            out.line(&format!(
                "    {p}_bus_result_t (*write)(void *user, uint8_t unit, uint16_t address, const uint8_t *data, uint16_t length);"
            ));
            out.line("    uint8_t unit;");
        }
    }
    out.line("    /* Lets microseconds pass. */");
    out.line("    void (*wait)(void *user, uint32_t micros);");
    if kinds.line {
        out.line("    /* Whether the data-ready line is high now. */");
        out.line("    bool (*line)(void *user);");
    }
    out.line(&format!("    {p}_device_t device;"));
    out.line(&format!("}} {p}_driver_t;"));
    for machine in &firmware.module.machines {
        out.blank();
        out.comment(&[machine.doc.join(" ").replace(", step by step.", ", complete.")]);
        out.line(&format!("{p}_outcome_t {}({p}_driver_t *driver);", machine.name.c));
    }
}

/// Members of the known state of a part: names and types.
pub(super) fn members(firmware: &Firmware) -> Vec<(String, String)> {
    let p = &firmware.prefix.lower;
    let mut all = Vec::new();
    for suffix in ["settings", "parameters"] {
        if firmware.module.structs.iter().any(|one| one.name.c == format!("{p}_{suffix}_t")) {
            all.push((suffix.to_owned(), format!("{p}_{suffix}_t")));
        }
    }
    for calls in &firmware.module.frames {
        all.push((calls.var.clone(), calls.ty.c.clone()));
        all.push((format!("has_{}", calls.var), "bool".to_owned()));
    }
    all
}

pub(super) fn source(firmware: &Firmware, printer: &mut Printer<'_>, out: &mut Lines) {
    let Some(bus) = firmware.bus else { return };
    let (p, up) = (&firmware.prefix.lower, &firmware.prefix.upper);
    let kinds = Kinds::of(firmware);
    out.blank();
    out.line(&format!("{p}_device_t {p}_device_reset(void)"));
    out.line("{");
    out.line(&format!("    {p}_device_t device;"));
    out.blank();
    for (member, ty) in members(firmware) {
        match member.as_str() {
            "settings" => out.line(&format!("    device.settings = {p}_settings_reset();")),
            "parameters" => out.line(&format!("    device.parameters = {p}_parameters_default();")),
            member if member.starts_with("has_") => out.line(&format!("    device.{member} = false;")),
            member => {
                let one = firmware.module.structs.iter().find(|one| one.name.c == ty);
                out.line(&format!("    device.{member} = ({ty}){{"));
                for inner in one.into_iter().flat_map(|one| &one.members) {
                    let value = if let Type::Bytes(_) = inner.ty { "{ 0 }".to_owned() } else { printer.alone(&inner.default) };
                    out.line(&format!("        .{} = {value},", inner.name));
                }
                out.line("    };");
            }
        }
    }
    out.line("    return device;");
    out.line("}");
    for calls in &firmware.module.frames {
        let Some((name, ty, params)) = &calls.readings else { continue };
        out.blank();
        out.wrapped(&format!("bool {p}_device_{}_readings(const {p}_device_t *device, {} *readings)", calls.var, ty.c), 0);
        out.line("{");
        let frames =
            firmware.module.frames.iter().filter(|other| other.var == calls.var || params.iter().any(|param| param.name == other.var));
        let missing: Vec<String> = frames.map(|other| format!("!device->has_{}", other.var)).collect();
        out.line(&format!("    if ({}) {{", missing.join(" || ")));
        out.line("        return false;");
        out.line("    }");
        let args: Vec<String> = params.iter().map(|param| format!("&device->{}", param.name)).collect();
        out.wrapped(&format!("    *readings = {}({});", name.c, args.join(", ")), 1);
        out.line("    return true;");
        out.line("}");
    }
    for machine in &firmware.module.machines {
        print(machine, firmware, printer, out);
    }
    serve(firmware, bus, &kinds, out);
    for machine in &firmware.module.machines {
        out.blank();
        out.line(&format!("{p}_outcome_t {}({p}_driver_t *driver)", machine.name.c));
        out.line("{");
        out.line(&format!("    {} run = {{ 0 }};", machine.ty.c));
        out.line("    bool answered = true;");
        out.blank();
        out.line("    for (;;) {");
        out.line(&format!("        {p}_request_t request;"));
        out.wrapped(
            &format!("        const {p}_outcome_t outcome = {}_step(&run, &driver->device, answered, &request);", machine.name.c),
            2,
        );
        out.line(&format!("        if ((outcome != {up}_SUCCEEDED) || (request.kind == {up}_FINISHED)) {{"));
        out.line("            return outcome;");
        out.line("        }");
        out.line(&format!("        const {p}_bus_result_t result = {p}_serve(driver, &request);"));
        out.line(&format!("        if (result == {up}_BUS_ERROR) {{"));
        out.line(&format!("            return {up}_FAILED_BUS;"));
        out.line("        }");
        out.line(&format!("        answered = result == {up}_BUS_DONE;"));
        out.line("    }");
        out.line("}");
    }
}

/// Function that serves requests of a routine.
fn serve(firmware: &Firmware, bus: Bus, kinds: &Kinds, out: &mut Lines) {
    let (p, up) = (&firmware.prefix.lower, &firmware.prefix.upper);
    out.blank();
    out.comment(&["Serves a request of a routine.".into()]);
    out.line(&format!("static {p}_bus_result_t {p}_serve({p}_driver_t *driver, const {p}_request_t *request)"));
    out.line("{");
    out.line("    switch (request->kind) {");
    if kinds.modbus {
        out.line(&format!("    case {up}_MODBUS_READ:"));
        out.line("        return driver->read(driver->user, driver->unit, request->function, request->address, request->count,");
        out.line("                request->read, request->read_length);");
        out.line(&format!("    case {up}_MODBUS_WRITE:"));
        out.line("        return driver->write(driver->user, driver->unit, request->address, request->write, request->write_length);");
    } else {
        out.line(&format!("    case {up}_TRANSFER:"));
        let address = if bus == Bus::I2c { "driver->address, " } else { "" };
        out.line(&format!("        return driver->transfer(driver->user, {address}request->write, request->write_length, request->read,"));
        out.line("                request->read_length);");
    }
    out.line(&format!("    case {up}_WAIT:"));
    out.line("        driver->wait(driver->user, request->micros);");
    out.line(&format!("        return {up}_BUS_DONE;"));
    if kinds.line {
        out.line(&format!("    case {up}_LINE: {{"));
        out.line("        uint32_t passed = 0;");
        out.blank();
        out.line("        while (driver->line(driver->user) != request->high) {");
        out.line("            if (passed >= request->micros) {");
        out.line(&format!("                return {up}_BUS_NO_ANSWER;"));
        out.line("            }");
        out.line("            driver->wait(driver->user, 100);");
        out.line("            passed += 100U;");
        out.line("        }");
        out.line(&format!("        return {up}_BUS_DONE;"));
        out.line("    }");
    }
    out.line(&format!("    case {up}_FINISHED:"));
    out.line("    default:");
    out.line(&format!("        return {up}_BUS_DONE;"));
    out.line("    }");
    out.line("}");
}
