//! Whatever stands in a layout or comes from another host: no output forges a line, moves a
//! terminal, tells a secret or runs a command. `TARVEK_CASES=100000 cargo test --release -p tarvek
//! --test hostile` takes every character in every place; what is emitted is put to its own programs
//! in `oracle/hostile.rs`.

mod support;

#[path = "support/hostile.rs"]
mod hostile;

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use hostile::{COMMANDS, HOSTILE, LAYOUT, SECRETS, run, site, toml};
use support::Folder;

/// Runs cases on all processors, and fails with the first few that did.
fn all<T: Sync>(cases: &[T], one: impl Fn(&T) -> Result<usize, String> + Sync) -> usize {
    let (next, runs) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let wrong = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                while let Some(case) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                    match one(case) {
                        Ok(count) => drop(runs.fetch_add(count, Ordering::Relaxed)),
                        Err(error) => wrong.lock().unwrap().push(error),
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    let some: Vec<&String> = wrong.iter().take(12).collect();
    assert!(wrong.is_empty(), "{} of {}: {some:#?}", wrong.len(), cases.len());
    runs.into_inner()
}

/// All commands on a site, unless its layout is refused.
fn commands(folder: &Folder, about: &str) -> Result<usize, String> {
    let code = run(folder, "check", about)?;
    let refused = code == 2 && folder.run("check").stdout.is_empty();
    if refused {
        return Ok(1);
    }
    for command in COMMANDS {
        run(folder, command, about)?;
    }
    hostile::scripts(folder, about)?;
    Ok(COMMANDS.len() + 1)
}

/// Some of the cases: as many as `TARVEK_CASES` says, and 40 unless it does.
fn sample<T>(cases: Vec<T>) -> Vec<T> {
    let most = std::env::var("TARVEK_CASES").map_or(40, |most| most.parse().unwrap());
    // Each place has the same characters after another; a step over all of them would take one
    // only.
    let step = cases.len() / most + 1;
    let step = if step.is_multiple_of(3) { step + 1 } else { step };
    cases.into_iter().step_by(step).collect()
}

#[test]
fn every_key_is_read() {
    let folder = site(LAYOUT);
    for command in COMMANDS {
        let code = run(&folder, command, "as it is").unwrap();
        let asks = ["access", "trace", "link"].iter().any(|asks| command.starts_with(asks));
        assert!(
            code == 0 || command.starts_with("check") || command.starts_with("compare") || asks,
            "{command}: {code}"
        );
    }
    assert!(hostile::texts(LAYOUT).len() > 150 && hostile::keys(LAYOUT).len() > 20);
}

/// Each text and key of the layout, with each of the characters put into it.
fn of_layout() -> Vec<(String, String)> {
    let mut cases = Vec::new();
    for (n, place) in hostile::texts(LAYOUT).into_iter().enumerate() {
        let was = &LAYOUT[place.start + 1..place.end - 1];
        for (turn, odd) in HOSTILE.iter().enumerate() {
            let text =
                if (n + turn) % 2 == 0 { format!("{was}{odd}") } else { format!("{odd}{was}") };
            let layout =
                format!("{}{}{}", &LAYOUT[..place.start], toml(&text), &LAYOUT[place.end..]);
            cases.push((format!("{text:?} for {was:?}"), layout));
        }
    }
    for (n, place) in hostile::keys(LAYOUT).into_iter().enumerate() {
        let was = LAYOUT[place.clone()].trim_matches('"');
        for (turn, odd) in HOSTILE.iter().enumerate() {
            let text =
                if (n + turn) % 2 == 0 { format!("{was}{odd}") } else { format!("{odd}{was}") };
            // Whoever is renamed is renamed everywhere.
            let layout = LAYOUT
                .replace(&format!("\"{was}\""), &toml(&text))
                .replace(&format!(".{was}]"), &format!(".{}]", toml(&text)))
                .replace(&format!(".{was}."), &format!(".{}.", toml(&text)))
                .replace(&format!("\n{was} = "), &format!("\n{} = ", toml(&text)));
            cases.push((format!("{text:?} for the key {was:?}"), layout));
        }
    }
    cases
}

#[test]
fn no_text_of_a_layout_gets_out_as_anything_else() {
    let cases = sample(of_layout());
    let runs = all(&cases, |(about, layout)| commands(&site(layout), about));
    assert!(
        runs > cases.len() * 2,
        "{runs} runs of {} cases: most layouts are refused",
        cases.len()
    );
}

#[test]
fn no_secret_of_a_layout_gets_out() {
    let mut cases: Vec<(String, String)> = Vec::new();
    for place in hostile::texts(LAYOUT) {
        for secret in SECRETS {
            let (before, after) = (&LAYOUT[..place.start], &LAYOUT[place.end..]);
            let layout = format!("{before}{}{after}", toml(secret));
            cases.push((format!("{secret} for {}", &LAYOUT[place.clone()]), layout));
        }
    }
    let cases = sample(cases);
    all(&cases, |(about, layout)| {
        // A path is a path, whatever it looks like.
        if ["for \"/", "for \"M:", "for \"reels"].iter().any(|path| about.contains(path)) {
            return Ok(0);
        }
        commands(&site(layout), about)
    });
}

/// Each field of each line of a listing that is not like one before.
fn of_listing(text: &str) -> Vec<(String, String)> {
    let mut cases = Vec::new();
    let mut section = String::new();
    let mut seen = std::collections::HashSet::new();
    let lines: Vec<&str> = text.lines().collect();
    for (n, line) in lines.iter().enumerate() {
        if let Some(name) = line.strip_prefix("section ") {
            section = name.to_owned();
        }
        let parts = if matches!(section.as_str(), "passwd" | "group") { ':' } else { ' ' };
        let fields: Vec<&str> = line.split(parts).collect();
        for (field, was) in fields.iter().enumerate() {
            if !seen.insert((section.clone(), field, was.len())) {
                continue;
            }
            for (turn, odd) in HOSTILE.iter().enumerate() {
                let odd = odd.replace('\n', "\\012").replace('\r', "\\015");
                let mut fields: Vec<String> = fields.iter().map(ToString::to_string).collect();
                fields[field] = if (n + field + turn) % 2 == 0 {
                    format!("{was}{odd}")
                } else {
                    format!("{odd}{was}")
                };
                let mut lines: Vec<String> = lines.iter().map(ToString::to_string).collect();
                lines[n] = fields.join(&parts.to_string());
                cases.push((
                    format!("line {} field {field}: {odd:?}", n + 1),
                    lines.join("\n") + "\n",
                ));
            }
        }
    }
    cases
}

#[test]
fn nothing_of_another_host_gets_out_as_anything_else() {
    let text = Folder::demo().read("granary.listing");
    let cases = sample(of_listing(&text));
    let runs = all(&cases, |(about, listing)| {
        let folder = site(LAYOUT);
        folder.write("granary.listing", listing);
        let code = run(&folder, "check", about)?;
        if code == 2 && folder.run("check").stdout.is_empty() {
            return Ok(1);
        }
        let asking = COMMANDS.iter().filter(|command| !command.starts_with("emit"));
        for command in asking.clone() {
            run(&folder, command, about)?;
        }
        Ok(asking.count())
    });
    assert!(runs > cases.len() * 3, "{runs} runs of {} cases", cases.len());
}

/// Configuration as it lies on hosts, each file with every word of it made odd.
fn of_configuration() -> Vec<(String, String, String)> {
    let conf = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/demo/conf");
    let mut cases = Vec::new();
    for name in [
        "granary/exports",
        "granary/smb.conf",
        "granary/passwd",
        "granary/group",
        "granary/compose.yaml",
        "granary/zfs-list.txt",
        "millrace/fstab",
        "millrace/compose.yaml",
        "parlour/drives.txt",
    ] {
        let text = std::fs::read_to_string(conf.join(name)).unwrap();
        let words = text.split_whitespace().map(|word| {
            let start = word.as_ptr() as usize - text.as_ptr() as usize;
            start..start + word.len()
        });
        for (n, place) in words.enumerate() {
            for (turn, odd) in HOSTILE.iter().chain(SECRETS).enumerate() {
                let was = &text[place.clone()];
                // A path is a path, whatever it looks like.
                let path = was.contains('/') && !was.contains("//")
                    || matches!(was, "MOUNTPOINT" | "services:");
                if path && SECRETS.contains(odd) {
                    continue;
                }
                let new = match (SECRETS.contains(odd), (n + turn) % 2) {
                    // Behind something else it is none.
                    (true, _) => (*odd).to_owned(),
                    (false, 0) => format!("{was}{odd}"),
                    (false, _) => format!("{odd}{was}"),
                };
                let whole = format!("{}{new}{}", &text[..place.start], &text[place.end..]);
                cases.push((format!("{name}: {odd:?} at {was:?}"), name.replace('/', "-"), whole));
            }
        }
    }
    cases
}

#[test]
fn nothing_that_is_adopted_gets_out_as_anything_else() {
    let cases = sample(of_configuration());
    let runs = all(&cases, |(about, name, text)| {
        let folder = Folder::new();
        folder.write(name, text);
        // A file that is no longer what it was is said to be so.
        let code = run(&folder, &format!("adopt granary:{name} -o adopted.toml"), about)?;
        run(&folder, &format!("adopt granary:{name} --format json"), about)?;
        if code == 2 {
            return Ok(2);
        }
        for command in
            ["check", "check -v", "check --format json", "trace --to granary:/loft/media/films"]
        {
            run(&folder, &format!("{command} --layout adopted.toml"), about)?;
        }
        hostile::nothing_forged(folder.path("").as_path())?;
        Ok(6)
    });
    assert!(runs > cases.len() * 4, "{runs} runs of {} cases", cases.len());
}

/// The part of the collector that hides, put to a text.
fn collected(mode: &str, text: &str) -> String {
    use std::io::Write;
    let script = include_str!("../src/collector.sh");
    let (start, end) =
        (script.find("# Begin of hiding.").unwrap(), script.find("# End of hiding.").unwrap());
    let mut sh = std::process::Command::new("sh")
        .args(["-c", &format!("{}\ncontent {mode}", &script[start..end])])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    sh.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let output = sh.wait_with_output().unwrap();
    assert!(output.status.success());
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn the_collector_hides_what_the_reader_hides() {
    let table = include_str!("../../tarvek-core/tests/data/secrets.txt");
    let rows: Vec<&str> =
        table.lines().filter(|line| !line.starts_with('#') && !line.is_empty()).collect();
    let mut mount_options =
        table.split("# Mount options\n").nth(1).unwrap().split("\n#").next().unwrap().lines();
    let mut wrong = Vec::new();
    for row in &rows {
        let text = row.split(" => ").next().unwrap().replace("\\n", "\n").replace("\\r", "\r");
        let found = collected("lines", &format!("{text}\n"));
        if found.contains("s3c") || found.contains("s3d") {
            wrong.push(format!("{row}\n  {found}"));
        }
    }
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), rows.len(), wrong.join("\n"));
    // What tables have beside a secret is needed.
    let plain = [
        "rw,uid=840 /loft/secret files",
        "loft/tokens\tmountpoint\t/loft/tokens",
        "/dev/sda1 1 2 3 4% /loft/pass word",
    ];
    for row in plain {
        assert_eq!(collected("fields", &format!("{row}\n")), format!("|{row}\n"));
    }
    let row = mount_options.find(|row| row.starts_with("//granary")).unwrap();
    let (text, hidden) = row.split_once(" => ").unwrap();
    assert_eq!(collected("fields", &format!("{text}\n")), format!("|{hidden}\n"));
    assert_eq!(
        collected("lines", "Options=rw,pass=s3c,s3d,ro\n"),
        "|Options=rw,pass=[hidden],[hidden],ro\n"
    );
}
