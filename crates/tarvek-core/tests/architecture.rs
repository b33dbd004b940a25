//! What ARCHITECTURE.md says of the core, held: the order of the rooms, no circle between files,
//! one list of rules, and that what is public says what it is. That the core does no I/O is held by
//! `clippy.toml`, and by the parts of the standard library that it may use.
#![expect(
    clippy::disallowed_macros,
    clippy::disallowed_methods,
    reason = "it reads the core's files"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use proc_macro2::{TokenStream, TokenTree};
use quote::ToTokens;
use syn::{Attribute, File, ImplItem, Item, Visibility};
use tarvek_core::rules::registry::rules;

/// Ground first; each imports only itself and those before it.
const ROOMS: [&str; 17] = [
    "words", "kernel", "layout", "facts", "site", "route", "judge", "link", "scan", "forecast",
    "remedy", "waste", "used", "rules", "check", "draft", "adopt",
];

/// What a room does not import although it stands before it.
const APART: [(&str, &[&str]); 3] = [
    ("facts", &["layout"]),
    // A side room over the layout.
    (
        "draft",
        &[
            "kernel", "facts", "site", "route", "judge", "link", "scan", "forecast", "remedy",
            "waste", "used", "rules", "check",
        ],
    ),
    // So is this, over what was read as well.
    (
        "adopt",
        &[
            "site", "route", "judge", "link", "scan", "forecast", "remedy", "waste", "used",
            "rules", "check", "draft",
        ],
    ),
];

/// What the core takes from the standard library: nothing that reaches the world outside.
const STD: [&str; 14] = [
    "any",
    "borrow",
    "cell",
    "cmp",
    "collections",
    "fmt",
    "hash",
    "iter",
    "mem",
    "net",
    "ops",
    "ptr",
    "str",
    "sync",
];

/// A file of the core without its tests, by its path as a module.
type Files = BTreeMap<Vec<String>, File>;

/// The crates whose files are read, by their folder.
const CRATES: [&str; 6] =
    ["tarvek-core", "tarvek-formats", "tarvek-host", "tarvek", "../xtask", "../fuzz"];

fn files() -> Files {
    let files = files_of("tarvek-core");
    assert!(files.len() > 100, "only {} files were found", files.len());
    files
}

fn files_of(name: &str) -> Files {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src");
    let mut files = Files::new();
    let mut folders = vec![src.clone()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            if path.extension().is_none_or(|end| end != "rs") {
                continue;
            }
            let module = module(path.strip_prefix(&src).unwrap());
            let is_for_tests = module.first().is_some_and(|room| room == "tests")
                || module == ["rules", "promises"]
                || module == ["rules", "promise"];
            if !is_for_tests {
                let mut file = syn::parse_file(&std::fs::read_to_string(&path).unwrap()).unwrap();
                file.items.retain(|item| !is_test(item));
                files.insert(module, file);
            }
        }
    }
    files
}

fn module(path: &Path) -> Vec<String> {
    let path: PathBuf = path.with_extension("");
    let mut parts: Vec<String> =
        path.iter().map(|part| part.to_str().unwrap().to_owned()).collect();
    if parts.last().is_some_and(|last| last == "mod" || last == "lib" || last == "main") {
        parts.pop();
    }
    parts
}

fn is_test(item: &Item) -> bool {
    let Item::Mod(module) = item else { return false };
    module.attrs.iter().any(|attribute| attribute.to_token_stream().to_string().contains("test"))
}

/// Every path that begins with one of some words, in code and in what macros are given.
fn paths(tokens: TokenStream, first: &[&str], found: &mut Vec<Vec<String>>) {
    let tokens: Vec<TokenTree> = tokens.into_iter().collect();
    let mut at = 0;
    while at < tokens.len() {
        match &tokens[at] {
            // What is visible in the crate or above, `pub(super)`, is no path.
            TokenTree::Ident(ident)
                if first.iter().any(|word| *ident == word) && colons(&tokens[at + 1..]) =>
            {
                at = path(&tokens, at, Vec::new(), found);
            }
            TokenTree::Group(group) => {
                paths(group.stream(), first, found);
                at += 1;
            }
            _ => at += 1,
        }
    }
}

fn colons(tokens: &[TokenTree]) -> bool {
    let colon = |token: &TokenTree| matches!(token, TokenTree::Punct(p) if p.as_char() == ':');
    tokens.len() > 2 && tokens[..2].iter().all(colon)
}

/// One path from its first word on, with all that a group in braces makes of it. Where it ends.
fn path(
    tokens: &[TokenTree],
    mut at: usize,
    mut path: Vec<String>,
    found: &mut Vec<Vec<String>>,
) -> usize {
    loop {
        match tokens.get(at) {
            Some(TokenTree::Ident(ident)) => path.push(ident.to_string()),
            Some(TokenTree::Group(group)) => {
                let inner: Vec<TokenTree> = group.stream().into_iter().collect();
                let is_comma =
                    |token: &TokenTree| matches!(token, TokenTree::Punct(p) if p.as_char() == ',');
                for part in inner.split(is_comma).filter(|part| !part.is_empty()) {
                    self::path(part, 0, path.clone(), found);
                }
                return at + 1;
            }
            // A glob takes the module itself.
            _ => {
                found.push(path);
                return at;
            }
        }
        at += 1;
        if !colons(&tokens[at..]) {
            found.push(path);
            return at;
        }
        at += 2;
    }
}

/// What names mean in a file: modules below it, and what it imports.
fn aliases(module: &[String], file: &File) -> BTreeMap<String, Vec<String>> {
    let mut names = BTreeMap::new();
    for item in &file.items {
        match item {
            Item::Mod(inner) => {
                let name = inner.ident.to_string();
                names.insert(name.clone(), [module, &[name]].concat());
            }
            Item::Use(import) => used(&import.tree, module, Vec::new(), &mut names),
            _ => {}
        }
    }
    names
}

fn used(
    tree: &syn::UseTree,
    module: &[String],
    mut path: Vec<String>,
    names: &mut BTreeMap<String, Vec<String>>,
) {
    let put = |name: String, path: Vec<String>, names: &mut BTreeMap<String, Vec<String>>| {
        if let Some(path) = absolute(module, path) {
            names.insert(name, path);
        }
    };
    match tree {
        syn::UseTree::Path(step) => {
            path.push(step.ident.to_string());
            used(&step.tree, module, path, names);
        }
        syn::UseTree::Name(name) if name.ident == "self" => {
            put(path.last().cloned().unwrap_or_default(), path, names);
        }
        syn::UseTree::Name(name) => {
            path.push(name.ident.to_string());
            put(name.ident.to_string(), path, names);
        }
        syn::UseTree::Rename(name) => {
            path.push(name.ident.to_string());
            put(name.rename.to_string(), path, names);
        }
        syn::UseTree::Group(group) => {
            group.items.iter().for_each(|tree| used(tree, module, path.clone(), names));
        }
        syn::UseTree::Glob(_) => {}
    }
}

/// A path from the top of the crate; `None` for one of another crate.
fn absolute(module: &[String], path: Vec<String>) -> Option<Vec<String>> {
    match path.first().map(String::as_str) {
        Some("crate") => Some(path[1..].to_vec()),
        Some("self") => Some([module, &path[1..]].concat()),
        Some("super") => {
            let up = path.iter().take_while(|part| *part == "super").count();
            Some([module.get(..module.len().checked_sub(up)?)?, &path[up..]].concat())
        }
        _ => None,
    }
}

/// Which files each file imports, by whatever name: a path from the top, one through a module that
/// was imported, or one below.
fn imports(files: &Files) -> BTreeMap<&Vec<String>, BTreeSet<&Vec<String>>> {
    let of = |(module, file): (&Vec<String>, &File)| {
        let names = aliases(module, file);
        let first: Vec<&str> = ["crate", "super", "self"]
            .into_iter()
            .chain(names.keys().map(String::as_str))
            .collect();
        let mut found = Vec::new();
        paths(file.to_token_stream(), &first, &mut found);
        let mut whole: Vec<Vec<String>> = found
            .into_iter()
            .filter_map(|path| match names.get(&path[0]) {
                Some(start) => Some([&start[..], &path[1..]].concat()),
                None => absolute(module, path),
            })
            .collect();
        // What is imported is used, also where no path goes on from it.
        whole.extend(names.into_values().filter(|path| files.get(path).is_none()));
        let file_of = |path: Vec<String>| {
            (0..=path.len()).rev().find_map(|length| files.get_key_value(&path[..length]))
        };
        whole
            .into_iter()
            .filter_map(file_of)
            .map(|(other, _)| other)
            .filter(|other| *other != module && !other.is_empty())
            .collect()
    };
    files.iter().map(|(module, file)| (module, of((module, file)))).collect()
}

#[test]
fn each_room_imports_only_those_before_it() {
    let files = files();
    let floor = |room: &str| {
        ROOMS.iter().position(|known| *known == room).unwrap_or_else(|| panic!("{room} is no room"))
    };
    let mut wrong = Vec::new();
    let mut count = 0;
    for (module, others) in imports(&files) {
        let Some(room) = module.first() else { continue };
        for other in others {
            count += 1;
            let apart = APART.iter().any(|(one, not)| one == room && not.contains(&&*other[0]));
            if floor(&other[0]) > floor(room) || apart {
                wrong.push(format!("{} imports {}", module.join("::"), other.join("::")));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(count > 500, "only {count} imports were found");
}

#[test]
fn the_core_takes_nothing_from_outside_but_plain_parts_of_the_standard_library() {
    let manifest = include_str!("../Cargo.toml").parse::<toml::Table>().unwrap();
    let dependencies: Vec<&String> = manifest["dependencies"].as_table().unwrap().keys().collect();
    assert_eq!(dependencies, ["blake3", "rayon", "strsim", "unicode-normalization"]);
    let mut taken = BTreeSet::new();
    for file in files().values() {
        let mut found = Vec::new();
        paths(file.to_token_stream(), &["std", "core"], &mut found);
        taken.extend(found.into_iter().map(|path| path[1].clone()));
    }
    let beyond: Vec<&String> = taken.iter().filter(|part| !STD.contains(&part.as_str())).collect();
    assert!(beyond.is_empty(), "{beyond:?}");
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    let mut circles = Vec::new();
    for name in CRATES {
        let files = files_of(name);
        let imports = imports(&files);
        let mut done = BTreeSet::new();
        for module in files.keys() {
            let mut way = Vec::new();
            let found = circle(module, &imports, &mut way, &mut done);
            circles.extend(found.map(|found| format!("{name}: {}", found.join("\n  imports "))));
        }
        assert_eq!(done.len(), files.len());
    }
    assert!(circles.is_empty(), "{} circles:\n{}", circles.len(), circles.join("\n"));
}

fn circle<'a>(
    module: &'a Vec<String>,
    imports: &BTreeMap<&'a Vec<String>, BTreeSet<&'a Vec<String>>>,
    way: &mut Vec<&'a Vec<String>>,
    done: &mut BTreeSet<&'a Vec<String>>,
) -> Option<Vec<String>> {
    if let Some(start) = way.iter().position(|known| *known == module) {
        return Some(way[start..].iter().chain([&module]).map(|m| m.join("::")).collect());
    }
    if done.contains(module) {
        return None;
    }
    way.push(module);
    let found = imports[module].iter().find_map(|other| circle(other, imports, way, done));
    way.pop();
    done.insert(module);
    found
}

#[test]
fn every_rule_stands_in_the_registry_and_has_a_file_with_its_tests() {
    let mut written: Vec<String> = Vec::new();
    for (module, file) in files() {
        let before = written.len();
        for item in &file.items {
            let Item::Static(rule) = item else { continue };
            let syn::Expr::Struct(body) = &*rule.expr else { continue };
            if body.path.is_ident("Rule") {
                let id = body
                    .fields
                    .iter()
                    .find(|field| field.member.to_token_stream().to_string() == "id");
                written.push(id.unwrap().expr.to_token_stream().to_string().replace('"', ""));
            }
        }
        for id in &written[before..] {
            let file = module[1..].join("/").replace('_', "-");
            assert_eq!(*id, file, "the file is named after its rule");
            assert_eq!(module[0], "rules");
            let path = format!("{}/src/{}.rs", env!("CARGO_MANIFEST_DIR"), module.join("/"));
            let source = std::fs::read_to_string(path).unwrap();
            let tests = source.split_once("#[cfg(test)]").map_or("", |(_, tests)| tests);
            assert!(tests.contains("RULE"), "{id} has no test beside it");
        }
        assert!(written.len() <= before + 1, "{} holds several rules", module.join("::"));
    }
    let mut listed: Vec<&str> = rules().map(|rule| rule.id).collect();
    written.sort();
    listed.sort_unstable();
    assert_eq!(written, listed);
    assert!(listed.len() >= 30);
}

#[test]
fn every_file_and_whatever_is_public_says_what_it_is() {
    let said = |attributes: &[Attribute]| attributes.iter().any(|a| a.path().is_ident("doc"));
    let mut silent = Vec::new();
    for (module, file) in files() {
        let mut ask = |name: String, public: bool, attributes: &[Attribute]| {
            if public && !said(attributes) {
                silent.push(format!("{} {name}", module.join("::")));
            }
        };
        ask("(the file)".to_owned(), true, &file.attrs);
        let public = |visibility: &Visibility| matches!(visibility, Visibility::Public(_));
        for item in &file.items {
            match item {
                Item::Fn(f) => ask(f.sig.ident.to_string(), public(&f.vis), &f.attrs),
                Item::Struct(s) => ask(s.ident.to_string(), public(&s.vis), &s.attrs),
                Item::Enum(e) => ask(e.ident.to_string(), public(&e.vis), &e.attrs),
                Item::Trait(t) => ask(t.ident.to_string(), public(&t.vis), &t.attrs),
                Item::Const(c) => ask(c.ident.to_string(), public(&c.vis), &c.attrs),
                Item::Static(s) => ask(s.ident.to_string(), public(&s.vis), &s.attrs),
                Item::Type(t) => ask(t.ident.to_string(), public(&t.vis), &t.attrs),
                Item::Impl(block) => {
                    for item in &block.items {
                        if let ImplItem::Fn(f) = item {
                            ask(f.sig.ident.to_string(), public(&f.vis), &f.attrs);
                        }
                    }
                }
                _ => {}
            }
        }
    }
    assert!(silent.is_empty(), "{silent:#?}");
}

#[test]
fn unsafe_stands_only_in_the_files_that_the_architecture_names() {
    let text = include_str!("../../../ARCHITECTURE.md");
    let (_, rest) = text.split_once("- No `unsafe`").expect("it says where unsafe stands");
    let (list, _) = rest.split_once("\n- ").expect("it is a list");
    let named: BTreeSet<String> =
        list.split('`').filter(|word| word.ends_with(".rs")).map(str::to_owned).collect();
    let mut found = BTreeSet::new();
    for name in CRATES {
        for (module, file) in files_of(name) {
            let tokens = file.to_token_stream();
            if has_word(tokens, "unsafe") {
                let folder = name.trim_start_matches("tarvek-").trim_start_matches("../");
                found.insert(format!("{folder}/src/{}.rs", module.join("/")));
            }
        }
    }
    assert_eq!(found, named);
}

/// Whether a word stands anywhere in some code.
fn has_word(tokens: TokenStream, word: &str) -> bool {
    tokens.into_iter().any(|token| match token {
        TokenTree::Ident(ident) => ident == word,
        TokenTree::Group(group) => has_word(group.stream(), word),
        _ => false,
    })
}
