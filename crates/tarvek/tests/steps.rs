//! The steps of remedies, made as another program would make them: from the JSON alone.

mod support;

use std::collections::BTreeSet;

use serde_json::Value;
use support::Folder;
use toml_edit::{DocumentMut, Item};

/// Rule, and what is done to a site in order to make it fire: file, from, to.
type Case = (&'static str, &'static [(&'static str, &'static str, &'static str)]);

const LAYOUT: &str = "tarvek.toml";

const CASES: &[Case] = &[
    ("path/missing", &[(LAYOUT, "[\"/media/films\"]", "[\"/media/flims\"]")]),
    ("path/case", &[(LAYOUT, "[\"/media/music\"]", "[\"/media/Music\"]")]),
    (
        "path/not-a-folder",
        &[(LAYOUT, "[\"/media/films\"]", "[\"/media/films/1742 (2019)/1742 (2019) 1080p.mkv\"]")],
    ),
    ("path/not-absolute", &[(LAYOUT, "[\"/media/films\"]", "[\"media/films\"]")]),
    (
        "path/written-as-host-path",
        &[(LAYOUT, "[\"/media/films\"]", "[\"/mnt/granary/media/films\"]")],
    ),
    (
        "path/wrong-translation",
        &[(
            LAYOUT,
            "[intake.films]",
            "translate = [\n  # drover's name for it\n  { service = \"drover\", from \
             = \"/data/intake\", to = \"/data/films\" },\n]\n[intake.films]",
        )],
    ),
    ("identity/squashed", &[(LAYOUT, "squash = \"root\" }]", "squash = \"all\" }] # for now")]),
    ("identity/unknown-account", &[(LAYOUT, "runs_as = \"840:840\"", "runs_as = \"lantrn\"")]),
    (
        "identity/number-mismatch",
        &[(LAYOUT, "[host.parlour]", "groups = { keepers = 1005 } # of old\n[host.parlour]")],
    ),
    ("label/missing", &[(LAYOUT, "[host.parlour]", "selinux = true\n[host.parlour]")]),
    (
        "label/private-but-shared",
        &[
            (
                LAYOUT,
                "to = \"/books\", access = \"ro\" }",
                "to = \"/books\", label = \"private\" }",
            ),
            (
                LAYOUT,
                "[intake.films]",
                "[service.weaver]\nhost = \"millrace\"\nrole = \"serve\"\nruns_as = \"840:840\"\n\
                 map = [{ from = \"/srv/books\", to = \"/b\", access = \"ro\" }]\n[intake.films]",
            ),
        ],
    ),
    (
        "label/network-mount",
        &[(
            LAYOUT,
            "to = \"/media\", access = \"ro\"",
            "to = \"/media\", label = \"shared\", access = \"ro\"",
        )],
    ),
    ("library/too-deep", &[(LAYOUT, "[\"/media/films\"]", "[\"/media/films/1742 (2019)\"]")]),
    ("library/too-high", &[(LAYOUT, "[\"/media/films\"]", "[\"/media\"]")]),
    ("library/nothing-found", &[(LAYOUT, "[\"/media/books\"]", "[\"/books\"]")]),
    (
        "share/read-only",
        &[
            (
                LAYOUT,
                "[service.joiner]\nhost = \"granary\"",
                "[service.joiner]\nhost = \"millrace\"",
            ),
            (
                LAYOUT,
                "groups = [\"keepers\"]\numask = \"002\"\nmap = [{ from = \"/loft/media\", to \
                 = \"/data\" }]",
                "groups = [2100]\numask = \"002\"\nmap = [{ from = \"/mnt/granary/media\", to \
                 = \"/data\" }]",
            ),
        ],
    ),
    ("share/root-trusted", &[(LAYOUT, "squash = \"root\" }]", "squash = \"none\" }]")]),
    ("share/guests-read", &[(LAYOUT, "smb = { read", "smb = { guests = true, read")]),
    (
        "share/child-dataset-hidden",
        &[(
            "granary.listing",
            "|63 61 0:53",
            "|64 62 0:54 / /loft/media/films rw - zfs loft/media/films rw\n|63 61 0:53",
        )],
    ),
    (
        "share/not-offered",
        &[(
            LAYOUT,
            "clients = \"10.20.0.0/24\", access = \"ro\" }",
            "clients = \"10.99.0.0/16\" }",
        )],
    ),
    (
        "access/more-than-needed",
        &[(
            LAYOUT,
            "[intake.films]",
            "[service.weaver]\nhost = \"granary\"\nrole = \"serve\"\nruns_as = \"1101:2100\"\nmap \
             = [\n  \
             { from = \"/loft/media\", to = \"/m\" }, # all of it\n]\nlibraries = [{ name = \"All \
             films\", kind = \"films\", \
             roots = [\"/m/films\"] }]\n[intake.films]",
        )],
    ),
    (
        "access/not-inherited",
        &[(
            LAYOUT,
            "groups = [\"keepers\"]\numask = \"002\"\nmap = [{ from = \"/loft/media\", to \
             = \"/data\" }]",
            "groups = [\"keepers\"]\numask = \"077\"\nmap = [{ from = \"/loft/media\", to \
             = \"/data\" }]",
        )],
    ),
    (
        "link/source-protected",
        &[(LAYOUT, "844:2200\"\numask = \"002\"", "844:2200\"\numask = \"022\"")],
    ),
    (
        "link/category-mismatch",
        &[(
            LAYOUT,
            "files_into = \"/data/films\", category = \"films\"",
            "files_into = \"/data/films\", category = \"Films\"",
        )],
    ),
    (
        "link/path-disagreement",
        &[
            (
                LAYOUT,
                "map = [\n  { from = \"/loft/media\", to = \"/data\" },",
                "map = [\n  { from = \"/loft/media\", to = \"/all\" }, # of its own",
            ),
            (LAYOUT, "reads = \"/data/intake/done/series\"", "reads = \"/all/intake/done/series\""),
            (LAYOUT, "files_into = \"/data/series\"", "files_into = \"/all/series\""),
        ],
    ),
    (
        "link/different-mount",
        &[(
            LAYOUT,
            "map = [\n  { from = \"/loft/media\", to = \"/data\" },",
            "map = [\n  # where downloads come from\n  { from = \"/loft/media/intake\", to \
             = \"/data/intake\" },\n  \
                 # where they go\n  { from = \"/loft/media/series\", to = \"/data/series\" }, # \
                 the last",
        )],
    ),
    (
        "link/partial-elsewhere",
        &[
            (
                LAYOUT,
                "841:2200\"\numask = \"002\"\nmap = [{ from = \"/loft/media\", to = \"/data\" }]",
                "841:2200\"\numask = \"002\"\nmap = [{ from = \"/loft/media\", to = \"/data\" }, \
                 { from = \"/loft/media/intake/partial\", to = \"/partial\" }]",
            ),
            (
                LAYOUT,
                "partial = \"/data/intake/partial\", done = \"/data/intake/done/films\"",
                "partial = \"/partial\", done = \"/data/intake/done/films\"",
            ),
        ],
    ),
    (
        "link/unsupported",
        &[("granary.listing", "zfs loft/media rw,xattr,posixacl", "exfat loft/media rw")],
    ),
    (
        "port/taken-twice",
        &[(
            LAYOUT,
            "[intake.films]",
            "[service.weaver]\nhost = \"millrace\"\nrole = \"serve\"\nruns_as = \"840:840\"\nports \
             = [\n  \"7080:80/tcp\", # its own page\n]\n\
             map = []\n[intake.films]",
        )],
    ),
    (
        "mount/inline-password",
        &[(LAYOUT, "user = \"mira\"", "user = \"mira\"\noptions = \"vers=3.1.1,password=hedge\"")],
    ),
    (
        "mount/soft-writes",
        &[(
            LAYOUT,
            "at = \"/mnt/granary/media\"\noptions = \"ro,",
            "at = \"/mnt/granary/media\"\noptions = \"rw,soft,",
        )],
    ),
    (
        "mount/boot-hang",
        &[(
            LAYOUT,
            "at = \"/mnt/granary/media\"\noptions = \"ro,nofail,_netdev\"",
            "at = \"/mnt/granary/media\" # slow\noptions = \"ro\"",
        )],
    ),
    (
        "mount/wider-than-needed",
        &[(
            LAYOUT,
            "at = \"/mnt/granary/media\"\noptions = \"ro,",
            "at = \"/mnt/granary/media\"\noptions = \"",
        )],
    ),
    (
        "mount/old-protocol",
        &[(
            LAYOUT,
            "at = \"/mnt/granary/media\"\noptions = \"ro,",
            "at = \"/mnt/granary/media\"\noptions = \"vers=2,ro,",
        )],
    ),
    (
        "mount/by-address",
        &[(
            LAYOUT,
            "from = \"granary:media\"\nprotocol = \"nfs\"",
            "from = \"10.20.0.2:/loft/media\"\nprotocol = \"nfs\"",
        )],
    ),
    (
        "mount/no-share-named",
        &[(
            LAYOUT,
            "from = \"granary:media\"\nprotocol = \"smb\"",
            "from = \"//granary.lan\"\nprotocol = \"smb\"",
        )],
    ),
    (
        "mount/service-before-mount",
        &[(
            LAYOUT,
            "to = \"/media\", access = \"ro\", propagation = \"rslave\"",
            "to = \"/media\", access = \"ro\"",
        )],
    ),
];

/// What tells of a layout that a host has not got yet: the part of a remedy that is done there.
const ON_HOSTS: [&str; 2] = ["layout/not-applied", "layout/differs-from-host"];

fn findings(folder: &Folder) -> Vec<Value> {
    let check = folder.json("check");
    let findings = check["findings"].as_array().unwrap().clone();
    findings.into_iter().filter(|f| !ON_HOSTS.contains(&f["rule"].as_str().unwrap())).collect()
}

fn ids(findings: &[Value]) -> BTreeSet<String> {
    findings.iter().map(|finding| finding["id"].as_str().unwrap().to_owned()).collect()
}

/// The comments of a file, each with the text behind its mark.
fn comments(text: &str) -> BTreeSet<String> {
    text.lines().filter_map(|line| Some(line.split_once("# ")?.1.to_owned())).collect()
}

/// The steps of a path: `service.lantern.map[0].access`, where a key may stand in quotation marks.
fn parts(path: &str) -> Vec<Result<String, usize>> {
    let mut parts = Vec::new();
    for piece in toml_edit::Key::parse(&path.replace('[', ".\"[").replace(']', "]\"")).unwrap() {
        let text = piece.get();
        match text.strip_prefix('[').and_then(|text| text.strip_suffix(']')) {
            Some(number) => parts.push(Err(number.parse().unwrap())),
            None => parts.push(Ok(text.to_owned())),
        }
    }
    parts
}

fn made(value: &Value) -> toml_edit::Value {
    format!("x = {}", toml_of(value)).parse::<DocumentMut>().unwrap()["x"]
        .as_value()
        .unwrap()
        .clone()
}

fn toml_of(value: &Value) -> String {
    match value {
        Value::Array(items) => {
            format!("[{}]", items.iter().map(toml_of).collect::<Vec<_>>().join(", "))
        }
        Value::Object(keys) => {
            let keys = keys.iter().map(|(key, value)| format!("{key} = {}", toml_of(value)));
            format!("{{ {} }}", keys.collect::<Vec<_>>().join(", "))
        }
        plain => plain.to_string(),
    }
}

fn reach<'a>(document: &'a mut DocumentMut, parts: &[Result<String, usize>]) -> &'a mut Item {
    let mut item = document.as_item_mut();
    for part in parts {
        item = match part {
            Ok(key) => item
                .as_table_like_mut()
                .unwrap()
                .entry(key)
                .or_insert(Item::Value(toml_edit::InlineTable::new().into())),
            Err(at) => item.get_mut(*at).unwrap(),
        };
    }
    item
}

/// Makes the steps of a remedy that are edits, as a program would that knows TOML and nothing of
/// Tarvek. Removals come last, so that numbers stay what they are.
fn apply(text: &str, steps: &[Value]) -> String {
    let mut document: DocumentMut = text.parse().unwrap();
    let mut gone = Vec::new();
    for step in steps {
        if let Some(path) = step["set"].as_str() {
            let parts = parts(path);
            match parts.last().unwrap() {
                Ok(key) => {
                    let table = reach(&mut document, &parts[..parts.len() - 1]);
                    let table = table.as_table_like_mut().unwrap();
                    let said = step.get("from").is_some();
                    assert_eq!(table.get(key).is_some(), said, "{step}");
                    table.insert(key, Item::Value(made(&step["to"])));
                }
                Err(at) => {
                    let list = reach(&mut document, &parts[..parts.len() - 1]);
                    *list.as_array_mut().unwrap().get_mut(*at).unwrap() = made(&step["to"]);
                }
            }
        }
        if let Some(path) = step["add"].as_str() {
            let parts = parts(path);
            let Some(Ok(key)) = parts.last() else { panic!("{step}") };
            let table = reach(&mut document, &parts[..parts.len() - 1]);
            let list = table.as_table_like_mut().unwrap().entry(key);
            let list = list.or_insert(Item::Value(toml_edit::Array::new().into()));
            list.as_array_mut().unwrap().push(made(&step["value"]));
        }
        gone.extend(step["remove"].as_str().map(parts));
    }
    gone.sort_by_key(|parts| std::cmp::Reverse(parts.last().unwrap().clone().err()));
    for parts in gone {
        let of = reach(&mut document, &parts[..parts.len() - 1]);
        match parts.last().unwrap() {
            Ok(key) => drop(of.as_table_like_mut().unwrap().remove(key).unwrap()),
            Err(at) => drop(of.as_array_mut().unwrap().remove(*at)),
        }
    }
    document.to_string()
}

#[test]
fn steps_clear_what_they_are_for_and_bring_nothing_about() {
    std::thread::scope(|scope| {
        for cases in CASES.chunks(CASES.len().div_ceil(4)) {
            scope.spawn(|| judge_steps(cases));
        }
    });
}

fn judge_steps(cases: &[Case]) {
    for (rule, edits) in cases {
        let folder = Folder::healthy();
        for (file, from, to) in *edits {
            folder.edit(file, from, to);
        }
        let before = findings(&folder);
        let meant: Vec<&Value> = before.iter().filter(|f| f["rule"] == **rule).collect();
        assert!(!meant.is_empty(), "{rule} does not fire: {before:#?}");
        let text = folder.read(LAYOUT);
        for finding in &meant {
            let steps = finding["steps"].as_array().unwrap();
            let edits: Vec<&Value> = steps.iter().filter(|step| !step["file"].is_null()).collect();
            assert!(!edits.is_empty(), "{rule} has no edit: {steps:#?}");
            for edit in edits {
                assert_eq!(edit["file"], LAYOUT);
                let line = edit["line"].as_u64().unwrap() as usize;
                let line = text.lines().nth(line - 1).unwrap();
                if let Some(from) = edit["from"].as_str().filter(|from| !from.contains("[hidden]"))
                {
                    assert!(line.contains(&format!("\"{from}\"")), "{rule}: {edit} {line}");
                }
            }
        }
        let id = meant[0]["id"].as_str().unwrap();
        let by_hand = apply(&text, meant[0]["steps"].as_array().unwrap());
        folder.write(LAYOUT, &by_hand);
        let after = findings(&folder);
        assert!(!ids(&after).contains(id), "{rule} is still found:\n{by_hand}\n{after:#?}");
        let new: Vec<_> = ids(&after).difference(&ids(&before)).cloned().collect();
        assert!(new.is_empty(), "{rule} brings {new:?}:\n{by_hand}");
        // The program itself comes to the same, and touches no comment.
        folder.write(LAYOUT, &text);
        let answer = folder.output(["check", "--apply", "--only", id, "--yes", "--format", "json"]);
        let answer: Value = serde_json::from_slice(&answer.stdout).unwrap();
        let own = folder.read(LAYOUT);
        let parsed = |text: &str| text.parse::<toml::Table>().unwrap();
        assert_eq!(parsed(&own), parsed(&by_hand), "{rule}: {answer:#}");
        assert_eq!(comments(&own), comments(&text), "{rule}:\n{own}");
        assert_eq!(answer["applied"][0]["finding"], id);
        assert!(answer["cleared"].as_array().unwrap().iter().any(|gone| gone == id), "{answer:#}");
        assert_eq!(answer["new"], serde_json::json!([]), "{rule}");
    }
}
