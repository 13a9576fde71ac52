//! Pages of parts: whole, without a link that leads nowhere, and with nothing in them that a sheet's text could break out of.

#![allow(clippy::unwrap_used, missing_docs)] // tests end where something is wrong

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use yemdo::Part;
use yemdo::emit::{page, page_as_markdown};

fn shipped() -> Vec<Part> {
    let mut paths: Vec<_> =
        fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets")).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    paths.retain(|path| path.extension().is_some_and(|extension| extension == "toml"));
    paths.iter().map(|path| Part::parse("sheet.toml", &fs::read_to_string(path).unwrap()).unwrap()).collect()
}

/// The values of an attribute, in order.
fn attributes<'p>(page: &'p str, name: &str) -> Vec<&'p str> {
    page.split(&format!(" {name}=\"")).skip(1).map(|rest| rest.split('"').next().unwrap()).collect()
}

/// What the page's script calculates with.
fn tables(page: &str) -> &str {
    page.split("type=\"application/json\">").nth(1).unwrap().split("</script>").next().unwrap()
}

#[test]
fn every_link_leads_somewhere_and_all_that_a_part_has_is_there() {
    for part in shipped() {
        let text = page(&part);
        let ids = attributes(&text, "id");
        let known: BTreeSet<&str> = ids.iter().copied().collect();
        assert_eq!(ids.len(), known.len(), "{}: an id twice", part.name());
        for link in attributes(&text, "href") {
            let target = link.strip_prefix('#').unwrap_or_else(|| panic!("{}: {link} leads away", part.name()));
            assert!(known.contains(target), "{}: #{target} leads nowhere", part.name());
        }
        assert!(attributes(&text, "src").is_empty() && !text.contains("url(") && text.matches("<script").count() == 3);
        let tables: serde_json::Value = serde_json::from_str(tables(&text)).unwrap();
        let items = tables.as_array().unwrap();
        // Every bit of a register or frame stands where its width says.
        for item in items {
            let width = item["start"].as_str().unwrap().len() as u64;
            let mut bits = item["codes"].as_array().unwrap().iter().flat_map(|code| code["bits"].as_array().unwrap());
            assert!(bits.all(|bit| bit.as_u64().unwrap() < width), "{}: {item}", part.name());
        }
        assert!(items.len() >= part.registers().len());
        for name in part.registers().iter().map(|register| register.name()) {
            assert!(text.contains(&format!(">{name}</a>")), "{}: {name}", part.name());
        }
        for (index, example) in part.examples().iter().enumerate() {
            assert!(known.contains(format!("example-{}", index + 1).as_str()), "{:?}", example.span());
        }
        assert!(!text.contains("class=\"differs\""), "{}: its examples agree", part.name());
        assert_eq!(text, page(&part), "the same on every run");
    }
}

#[test]
fn a_transfer_curve_ends_where_the_part_is_saturated() {
    let sheet = |status: &str| {
        let text = format!(
            "part = \"p\"\nframe.F = {{ read = 1, code = {{ c = \"b0\" }} }}\n[reading.x]\nunit = \"V\"\nformula = \"c * 0.5\"\nstatus = [{status}]"
        );
        page(&Part::parse("p", &text).unwrap())
    };
    let last = |page: &str| attributes(page, "points")[0].rsplit(' ').next().unwrap().to_owned();
    let (free, bound) = (sheet(""), sheet("{ when = \"c >= 128\", is = \"saturated\" }"));
    assert_eq!((last(&free), free.contains("<circle")), ("490,14".into(), false));
    // At half of the codes, and there at the top of what comes out.
    assert_eq!((last(&bound), bound.contains("<circle")), ("279.2,14".into(), true));
}

#[test]
fn names_in_formulas_lead_to_what_they_are_and_markdown_has_as_much() {
    for part in shipped() {
        let (text, markdown) = (page(&part), page_as_markdown(&part));
        for code in part.readings().iter().filter(|reading| reading.is_measured()).flat_map(|reading| part.codes().of(reading.codes())) {
            let (from, to) =
                (format!("code-{}", part.frames().get(code.frame()).unwrap().name().to_lowercase()), code.name().to_lowercase());
            assert!(text.contains(&format!("href=\"#{from}-{}\"", to.replace('_', "-"))), "{}: {}", part.name(), code.name());
        }
        for name in part
            .registers()
            .iter()
            .map(|one| one.name())
            .chain(part.readings().iter().filter(|one| one.is_measured()).map(|one| one.name()))
        {
            // Of an array the first is told.
            let array = name.ends_with(|c: char| c.is_ascii_digit());
            assert!(array || markdown.contains(name), "{}: {name}", part.name());
        }
        // Tables have as many cells in every row.
        for table in markdown.split("\n\n").filter(|block| block.starts_with('|')) {
            let cells: BTreeSet<usize> = table.lines().map(|line| line.replace("\\|", "").matches('|').count()).collect();
            assert_eq!(cells.len(), 1, "{}:\n{table}", part.name());
        }
    }
}

#[test]
fn texts_of_a_sheet_stay_texts() {
    let hostile = "</style><script>alert(1)</script>\\\" onload=\\\"x";
    let text = format!(
        "part = \"p\"\ntitle = \"{hostile}\"\nsource = \"{hostile}\"\n[register.R]\nat = 39\nwidth = 8\naccess = \"read-write\"\nmeans = \"{hostile}\"\n\
         field.F = {{ bits = \"[7:0]\", means = \"{hostile}\", values = [{{ code = 0, name = \"{hostile}\", means = \"{hostile}\" }}] }}\n\
         [frame.A]\nread = 1\nmeans = \"{hostile}\"\ncode = {{ c = \"b0\" }}\n\
         [reading.x]\nunit = \"V\"\nmeans = \"{hostile}\"\nsource = \"{hostile}\"\nformula = \"c * 0.5\"\nstatus = [{{ when = \"c == 3\", is = \"invalid\", means = \"{hostile}\" }}]\n\
         [i2c]\naddress = 0x17\n"
    );
    let part = Part::parse("p", &text).unwrap();
    let page = page(&part);
    assert!(page.contains("&lt;script&gt;") && page.matches("<script").count() == 3 && page.matches("</script>").count() == 3);
    let outside = page.replace(tables(&page), "");
    assert!(!page.contains("<script>alert") && !outside.contains("\" onload=") && page.matches("</style>").count() == 1);
    serde_json::from_str::<serde_json::Value>(tables(&page)).unwrap();
    let markdown = page_as_markdown(&part);
    assert!(!markdown.contains("<script>") && !markdown.contains("</style>"), "{markdown}");
}
