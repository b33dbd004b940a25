//! The core does no I/O and knows no interface.

use std::path::Path;

#[test]
fn the_core_depends_on_nothing_that_does_io_and_uses_none_of_std() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let manifest = std::fs::read_to_string(root.join("Cargo.toml")).unwrap();
    let dependencies =
        manifest.split("[dependencies]").nth(1).unwrap().split("\n[").next().unwrap();
    let names: Vec<&str> = dependencies
        .lines()
        .filter_map(|l| l.split(['.', ' ', '=']).next())
        .filter(|n| !n.is_empty())
        .collect();
    assert_eq!(names, ["strsim"]);

    let mut todo = vec![root.join("src")];
    let mut files = 0;
    while let Some(folder) = todo.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                todo.push(path);
                continue;
            }
            files += 1;
            let source = std::fs::read_to_string(&path).unwrap();
            let code = source.split("#[cfg(test)]").next().unwrap();
            for banned in [
                "std::fs",
                "std::io",
                "std::process",
                "std::env",
                "println!",
                "eprintln!",
                "std::net::Tcp",
                "SystemTime",
            ] {
                assert!(!code.contains(banned), "{} uses {banned}", path.display());
            }
        }
    }
    assert!(files > 15);
}
