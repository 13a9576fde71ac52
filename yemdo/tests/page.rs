//! Pages of parts: whole, without a link that leads nowhere, and with nothing in them that a sheet's text could break out of.

#![allow(clippy::unwrap_used, missing_docs)] // tests end where something is wrong

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use yemdo::Part;
use yemdo::emit::page;

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
        assert!(attributes(&text, "src").is_empty() && !text.contains("url(") && !text.contains("<script"));
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
fn texts_of_a_sheet_stay_texts() {
    let hostile = "</style><script>alert(1)</script>\\\" onload=\\\"x";
    let text = format!(
        "part = \"p\"\ntitle = \"{hostile}\"\nsource = \"{hostile}\"\n[register.R]\nat = 39\nwidth = 8\naccess = \"read-write\"\nmeans = \"{hostile}\"\n\
         field.F = {{ bits = \"[7:0]\", means = \"{hostile}\", values = [{{ code = 0, name = \"{hostile}\", means = \"{hostile}\" }}] }}\n\
         [frame.A]\nread = 1\nmeans = \"{hostile}\"\ncode = {{ c = \"b0\" }}\n\
         [reading.x]\nunit = \"V\"\nmeans = \"{hostile}\"\nsource = \"{hostile}\"\nformula = \"c * 0.5\"\nstatus = [{{ when = \"c == 3\", is = \"invalid\", means = \"{hostile}\" }}]\n\
         [i2c]\naddress = 0x17\n"
    );
    let page = page(&Part::parse("p", &text).unwrap());
    assert!(page.contains("&lt;script&gt;"));
    assert!(!page.contains("<script") && !page.contains("\" onload=") && page.matches("</style>").count() == 1);
}
