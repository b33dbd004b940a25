//! `process:PID` as a viewpoint: what is said of a running process in namespaces of its own, put to
//! that process. It tries what the question was, and says what came of it.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use serde_json::{Value, json};

use crate::kernel;
use crate::random::{self, GIDS, Random, UIDS, cases};

/// A process that answers.
struct Inside {
    child: Child,
    say: ChildStdin,
    hear: BufReader<ChildStdout>,
    pid: u32,
}

impl Inside {
    /// Starts one; where it makes a user namespace, it gets this map.
    fn start(plan: &Value, map: Option<&String>) -> Self {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/oracle/inside.py");
        let mut command = Command::new("python3");
        let mut child = command
            .arg("-S")
            .arg(script)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("python3");
        let (say, hear) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let mut inside = Self { pid: child.id(), child, say, hear: BufReader::new(hear) };
        inside.send(plan);
        if let Some(map) = map {
            assert_eq!(inside.line(), json!("map me"));
            for file in ["uid_map", "gid_map"] {
                std::fs::write(format!("/proc/{}/{file}", inside.pid), map).unwrap();
            }
            inside.send(&json!("go"));
        }
        // Its own number, as it sees it: there is no namespace of numbers.
        assert_eq!(inside.line(), json!(inside.pid));
        inside
    }

    fn send(&mut self, word: &Value) {
        writeln!(self.say, "{word}").unwrap();
        self.say.flush().unwrap();
    }

    fn line(&mut self) -> Value {
        let mut line = String::new();
        self.hear.read_line(&mut line).unwrap();
        serde_json::from_str(&line).unwrap_or_else(|_| panic!("it said {line:?}"))
    }

    /// What comes of an attempt: a value, or an error's name.
    fn try_it(&mut self, need: &str, path: &str) -> Result<Value, String> {
        self.ask(&json!([need, path]))
    }

    fn ask(&mut self, words: &Value) -> Result<Value, String> {
        self.send(words);
        let answer = self.line();
        match answer[1].as_str() {
            Some(errno) => Err(errno.to_owned()),
            None => Ok(answer[0].clone()),
        }
    }
}

impl Drop for Inside {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn tarvek(arguments: &[&str]) -> (i32, Value, String) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
    let output =
        command.args(arguments).args(["--format", "json"]).current_dir("/").output().unwrap();
    let told = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    (output.status.code().unwrap(), told, said)
}

#[test]
fn a_process_can_do_what_is_said_of_it() {
    kernel::private_mounts();
    let mut random = Random::from_env("process");
    let scratch = tempfile::tempdir().unwrap();
    open_up(scratch.path());
    let (mut asked, mut yes, mut unknown, mut links) = (0, 0, 0, 0);
    let mut kinds: BTreeMap<String, u32> = BTreeMap::new();
    let wanted = cases(300);
    let mut round = 0;
    while asked < wanted {
        round += 1;
        let base = scratch.path().join(round.to_string());
        std::fs::create_dir(&base).unwrap();
        kernel::tmpfs(&base);
        let scene = Scene::new(&mut random, &base);
        let mut inside = Inside::start(&scene.plan, scene.maps.first());
        for _ in 0..25 {
            let path = scene.path(&mut random);
            let need = *random.one(&["read", "enter", "add", "write", "remove"]);
            let view = format!("process:{}", inside.pid);
            let (code, told, said) = tarvek(&["access", &path, "--from", &view, "--need", need]);
            let real = inside.try_it(need, &path);
            asked += 1;
            let context = || {
                let table =
                    std::fs::read_to_string(format!("/proc/{}/mountinfo", inside.pid)).unwrap();
                format!(
                    "{need} {path:?} in {:#}\n{:?}\n{table}\n{told:#}\n{said}",
                    scene.plan, scene.maps
                )
            };
            if told.is_null() {
                // It is not there.
                assert!(code == 2 && real.is_err(), "{real:?} {}", context());
                continue;
            }
            let verdict = &told["verdicts"][0];
            match verdict["allowed"].as_bool() {
                None => unknown += 1,
                Some(allowed) => {
                    let same = real.is_ok() == allowed;
                    assert!(same, "{real:?} {}", context());
                    if let (Err(errno), Some(ours)) = (&real, verdict["errno"].as_str()) {
                        assert_eq!(errno, ours, "{}", context());
                    }
                    yes += u64::from(allowed);
                }
            }
            *kinds.entry(format!("{need} {:?}", verdict["allowed"])).or_insert(0) += 1;
            let ends = inside.try_it("ends", &path);
            if let Ok(ends) = ends {
                let (_, told, said) = tarvek(&["trace", &path, "--from", &view]);
                let device = format!("{}:{}", ends[0], ends[1]);
                let context = || {
                    let table =
                        std::fs::read_to_string(format!("/proc/{}/mountinfo", inside.pid)).unwrap();
                    format!("trace {path:?} in {:#}\n{table}\n{told:#}\n{said}", scene.plan)
                };
                assert_eq!(told["ends"]["device"], json!(device), "{}", context());
                assert_eq!(told["ends"]["inode"], ends[2], "{}", context());
                // Where a path of this machine is named, it is that very entry.
                let host = told["ends"]["host"].as_str().unwrap();
                if !host.starts_with("process:") {
                    use std::os::unix::fs::MetadataExt;
                    let at = told["ends"]["path"].as_str().unwrap();
                    let there = std::fs::symlink_metadata(at)
                        .unwrap_or_else(|e| panic!("{e} {}", context()));
                    assert_eq!(json!(there.ino()), ends[2], "{}", context());
                }
            }
        }
        for n in 0..10 {
            links += links_of(&mut random, &scene, &mut inside, n);
        }
        drop(inside);
        nix::mount::umount2(&base, nix::mount::MntFlags::MNT_DETACH).unwrap();
    }
    eprintln!(
        "process: {asked} questions, {links} links and renames, {yes} yes, {unknown} unknown; \
         {kinds:?}"
    );
    assert!(unknown * 50 <= asked, "{unknown} of {asked} are unknown");
}

/// One pair of paths: whether it can be linked and renamed in the view of the process, as said and
/// as it really comes. How many answers were compared.
fn links_of(random: &mut Random, scene: &Scene, inside: &mut Inside, n: u32) -> u32 {
    let (from, folder) = (scene.path(random), scene.path(random));
    let name = from.trim_end_matches('/').rsplit('/').next().unwrap();
    let to = match random.below(2) {
        0 => format!("{folder}/new {n}"),
        _ => format!("{folder}/{name}"),
    };
    let view = format!("process:{}", inside.pid);
    let (code, told, said) = tarvek(&["link", &from, &to, "--from", &view]);
    if told.is_null() {
        assert_eq!(code, 2, "{from} {to}: {said}");
        return 0;
    }
    // Who can't be become is told; else what was proven is what comes.
    let (_, proven, said_of_proof) = tarvek(&["link", &from, &to, "--from", &view, "--prove"]);
    let refused = proven.is_null();
    assert!(
        !refused || said_of_proof.contains("nobody can become"),
        "{from} {to}: {said_of_proof}"
    );
    let mut compared = 0;
    // In a folder it would get its own name; and what would be replaced is not put back.
    if inside.try_it("folder", &to).is_ok() {
        return 0;
    }
    let exists = inside.try_it("ends", &to).is_ok() || told["hardlink"]["errno"] == "EEXIST";
    for (deed, key) in [("link", "hardlink"), ("rename", "rename")] {
        if exists && deed == "rename" {
            continue;
        }
        let real = inside.ask(&json!([deed, from, to]));
        let verdict = &told[key];
        if proven[key]["evidence"] == "proven" {
            let said = proven[key]["errno"].as_str();
            assert_eq!(
                said,
                real.as_ref().err().map(String::as_str),
                "{from} {to} in {:#}: {proven:#}",
                scene.plan
            );
        }
        let context = || {
            let table = std::fs::read_to_string(format!("/proc/{}/mountinfo", inside.pid)).unwrap();
            format!(
                "{deed} {from:?} {to:?} in {:#}\n{:?}\n{table}\n{told:#}\n{said}",
                scene.plan, scene.maps
            )
        };
        let Some(possible) = verdict["possible"].as_bool() else { continue };
        assert_eq!(real.is_ok(), possible, "{real:?} {}", context());
        // What a mount covers is not seen, and may be what refuses first.
        if let Err(errno) = &real
            && verdict["errno"] != "EBUSY"
            && !verdict["detail"].as_str().unwrap().contains("unless this refuses before")
        {
            assert_eq!(verdict["errno"], json!(errno), "{}", context());
        }
        compared += 1;
    }
    compared
}

/// Lets everybody through to a scratch folder.
fn open_up(folder: &Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// Files, what a process makes of them, and who it is.
struct Scene {
    plan: Value,
    maps: Vec<String>,
    /// In the view of the process.
    paths: Vec<String>,
}

impl Scene {
    fn new(random: &mut Random, base: &Path) -> Self {
        let src = base.join("src");
        let root = base.join("root");
        for folder in [&src, &root, &src.join("one"), &src.join("two"), &root.join("m")] {
            std::fs::create_dir(folder).unwrap();
        }
        for folder in ["media", "more", "in", "in/deep"] {
            std::fs::create_dir(root.join("m").join(folder)).unwrap();
        }
        let mut all = random::tree(random, &src.join("one"), 2);
        all.extend(random::tree(random, &src.join("two"), 1));
        let made = random::tree(random, &root.join("m/in"), 1);
        std::os::unix::fs::symlink("/m/media", root.join("m/link")).unwrap();
        std::os::unix::fs::symlink("../m/./more", root.join("m/relative")).unwrap();
        let chrooted = !random.rarely(3);
        let inside = |path: &Path| -> String {
            let path = if chrooted {
                Path::new("/").join(path.strip_prefix(&root).unwrap())
            } else {
                path.to_owned()
            };
            path.to_str().unwrap().to_owned()
        };
        let text = |path: &Path| path.to_str().unwrap().to_owned();
        let mut mounts = vec![
            json!({"do": "bind", "from": text(&src.join("one")), "at": text(&root.join("m/media"))}),
        ];
        if random.rarely(2) {
            mounts.push(json!({"do": "readonly", "at": text(&root.join("m/media"))}));
        }
        match random.below(5) {
            0 => mounts.push(json!({"do": "tmpfs", "at": text(&root.join("m/more")), "mode": 0o777})),
            1 => mounts.push(json!({"do": "bind", "from": text(&src.join("two")), "at": text(&root.join("m/more"))})),
            2 => {
                // One over the other.
                mounts.push(json!({"do": "tmpfs", "at": text(&root.join("m/more")), "mode": 0o755}));
                mounts.push(json!({"do": "bind", "from": text(&src.join("two")), "at": text(&root.join("m/more"))}));
            }
            3 => {
                mounts.push(json!({"do": "tmpfs", "at": text(&root.join("m/in/deep")), "mode": 0o700}));
                mounts.push(json!({"do": "move", "from": text(&root.join("m/in/deep")), "at": text(&root.join("m/more"))}));
            }
            _ => {}
        }
        let own_mounts = !random.rarely(5);
        let spaces = random.below(3);
        let maps: Vec<String> = match spaces {
            0 => Vec::new(),
            1 => vec![one_map(random)],
            _ => vec!["0 0 200000\n".to_owned(), one_map(random)],
        };
        let (mut uid, mut gid, mut groups) =
            (*random.one(UIDS), *random.one(GIDS), vec![*random.one(GIDS)]);
        if let Some(last) = maps.last() {
            // Ids of the inside that there are.
            let first: Vec<u32> =
                last.lines().map(|line| line.split(' ').next().unwrap().parse().unwrap()).collect();
            let one = |random: &mut Random| *random.one(&first);
            (uid, gid, groups) = (one(random), one(random), vec![one(random)]);
        }
        let caps = match random.below(4) {
            0 if uid == 0 => Some(0u64),
            1 if uid == 0 => Some(1 << 2),
            2 => Some(1 << 1 | 1 << 3),
            _ => None,
        };
        // Capabilities can be given up, not taken.
        let caps = caps.filter(|caps| uid == 0 || *caps == 0);
        let pivot = chrooted && own_mounts && random.rarely(2);
        let plan = json!({
            "mounts": own_mounts.then_some(mounts),
            "root": chrooted.then(|| text(&root)),
            "pivot": pivot,
            "spaces": spaces,
            "inner": maps.get(1),
            "uid": uid, "gid": gid, "groups": groups,
            "caps": caps,
            "umask": 0o22,
        });
        let mut paths: Vec<String> = [
            "m",
            "m/media",
            "m/more",
            "m/in",
            "m/in/deep",
            "m/link",
            "m/relative",
            "m/nothing",
            "m/media/../more",
        ]
        .iter()
        .map(|path| inside(&root.join(path)))
        .collect();
        for path in &all {
            if let Ok(rest) = path.strip_prefix(src.join("one")) {
                paths.push(inside(&root.join("m/media").join(rest)));
                paths.push(inside(&root.join("m/link").join(rest)));
            }
            if let Ok(rest) = path.strip_prefix(src.join("two")) {
                paths.push(inside(&root.join("m/more").join(rest)));
            }
        }
        paths.extend(made.iter().map(|path| inside(path)));
        Self { plan, maps, paths }
    }

    fn path(&self, random: &mut Random) -> String {
        let path = random.one(&self.paths).clone();
        match random.below(12) {
            0 => path + "/",
            1 => path + "/.",
            _ => path,
        }
    }
}

/// Ranges that have the ids of the files, all or some.
fn one_map(random: &mut Random) -> String {
    match random.below(4) {
        0 => "0 71001 1\n5 0 1\n7 72001 3\n".to_owned(),
        1 => "0 0 100000\n".to_owned(),
        2 => "0 100000 65536\n".to_owned(),
        _ => "0 71000 10\n100 72000 10\n".to_owned(),
    }
}
