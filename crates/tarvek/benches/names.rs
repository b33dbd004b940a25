//! How fast names are read, beside splitting the same names into words, which any reader has to do.

use divan::counter::ItemsCount;
use divan::{Bencher, black_box};
use tarvek_core::forecast::filed::Shelf;
use tarvek_core::forecast::reading::read;
use tarvek_core::words::terms::Kind;
use tarvek_core::words::word::Word;

const TABLE: &str = include_str!("../../tarvek-core/tests/data/names.tsv");

fn main() {
    divan::main();
}

/// Kind and path of each row.
fn paths() -> Vec<(Kind, &'static str)> {
    let rows = TABLE.lines().filter(|line| !line.starts_with('#'));
    rows.map(|row| {
        let mut fields = row.split('\t');
        let kind = Kind::named(fields.next().expect("a kind")).expect("a kind");
        (kind, fields.next().expect("a path"))
    })
    .collect()
}

#[divan::bench]
fn names(bencher: Bencher) {
    let all = paths();
    let stems: Vec<&str> =
        all.iter().map(|(_, path)| path.rsplit('/').next().expect("a name")).collect();
    bencher
        .counter(ItemsCount::new(stems.len()))
        .bench(|| stems.iter().map(|stem| black_box(read(stem)).episodes.len()).sum::<usize>());
}

#[divan::bench]
fn paths_with_their_folders(bencher: Bencher) {
    let all: Vec<(Kind, Vec<String>, &str)> = paths()
        .into_iter()
        .map(|(kind, path)| {
            let mut folders: Vec<String> = path.split('/').map(str::to_owned).collect();
            folders.pop();
            (kind, folders, path.rsplit('/').next().expect("a name"))
        })
        .collect();
    bencher.counter(ItemsCount::new(all.len())).bench(|| {
        let read = |(kind, folders, name): &(Kind, Vec<String>, &str)| {
            Shelf::new(*kind, folders.clone()).file(name, true).is_ok()
        };
        all.iter().filter(|one| black_box(read(one))).count()
    });
}

/// The reference.
#[divan::bench]
fn words(bencher: Bencher) {
    let all = paths();
    bencher.counter(ItemsCount::new(all.len())).bench(|| {
        let words = |path: &str| -> Vec<String> {
            let name = path.rsplit('/').next().unwrap_or_default();
            let words = name.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
            words.map(str::to_lowercase).collect()
        };
        all.iter().map(|(_, path)| black_box(words(path)).len()).sum::<usize>()
    });
}
