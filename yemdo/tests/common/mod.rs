//! What several tests need.

/// The shipped sheets: name and text, in the order of their names.
pub(crate) fn shipped() -> Vec<(String, String)> {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../sheets");
    let mut all: Vec<(String, String)> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| (path.file_stem().unwrap().to_string_lossy().into_owned(), std::fs::read_to_string(&path).unwrap()))
        .collect();
    all.sort();
    all
}
