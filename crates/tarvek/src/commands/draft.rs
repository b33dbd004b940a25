//! `tarvek draft`: a brief becomes a layout. However the brief is given, as a file, as options or
//! as answers, it is one text that one reader reads, so that it is judged in one way.

use std::collections::BTreeMap;
use std::io::{self, BufRead, IsTerminal, Write};
use std::path::Path;

use tarvek_core::draft::{Draft, draft};
use tarvek_formats::{brief, layout};

use crate::cli::{BriefOptions, DraftArgs, Member, Of};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{self, Screen};

pub(super) fn run(args: &DraftArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let (name, text) = match &args.brief {
        Some(file) => (inputs::name_of(file), inputs::small_file(file)?),
        None if args.wish.says_nothing() && io::stdin().is_terminal() => {
            let answers = questions(&mut io::stdin().lock())?;
            ("the answers".to_owned(), of_options(&answers).into_bytes())
        }
        None if args.wish.says_nothing() => {
            return Err(Failure::with_remedy(
                "nothing is said of what is wanted",
                "give --brief FILE, or options such as --storage granary --pool loft; on a \
                 terminal you are asked",
            ));
        }
        None => ("the options".to_owned(), of_options(&args.wish).into_bytes()),
    };
    let brief = brief::read(&name, &text)?;
    let draft = draft(&brief);
    let text = written(&draft);
    // What is drafted is taken up by everything else, or not handed out.
    if let Err(refused) = layout::read("the drafted layout", text.as_bytes()) {
        let first = &refused.mistakes[0];
        return Err(Failure::with_remedy(
            format!("{name} can't be had as it is: {}", first.message),
            first.remedy.as_deref().unwrap_or("give one of the two another name"),
        ));
    }
    match args.output.as_deref() {
        Some(file) if file == Path::new("-") => screen.say(&text)?,
        output => {
            screen.say(&view::draft::text(&draft, screen))?;
            match output {
                Some(file) => {
                    inputs::write_new(file, text.as_bytes())?;
                    screen.say(&format!("\nwritten: {}\n", inputs::name_of(file)))?;
                }
                None => screen
                    .say("\nNothing was written; -o FILE writes this layout, -o - prints it.\n")?,
            }
        }
    }
    Ok(Outcome::Fine)
}

/// The layout as a file, each part under its reasons.
pub(crate) fn written(draft: &Draft) -> String {
    layout::write(&draft.layout, &|part| {
        let about = part.short();
        let about_this = draft.reasons.iter().filter(|reason| reason.about == about);
        about_this.map(|reason| reason.why.clone()).collect()
    })
}

fn of_options(args: &BriefOptions) -> String {
    let quoted = |text: &str| toml_string(text);
    let mut out = String::from("brief = 1\n");
    let mut line = |name: &str, value: String| out += &format!("{name} = {value}\n");
    line("site", quoted(args.site.as_deref().unwrap_or("Site")));
    let list = |items: &[String]| {
        format!("[{}]", items.iter().map(|i| quoted(i)).collect::<Vec<_>>().join(", "))
    };
    if !args.kind.is_empty() {
        line("kinds", list(&args.kind));
    }
    if !args.original.is_empty() {
        line("originals", list(&args.original));
    }
    for (name, value) in
        [("want", &args.want), ("containers", &args.containers), ("backup", &args.backup)]
    {
        if let Some(value) = value {
            line(name, quoted(value));
        }
    }
    if args.no_acls {
        line("acls", "false".into());
    }
    out += "\n[storage]\n";
    let mut line = |name: &str, value: String| out += &format!("{name} = {value}\n");
    for (name, value) in [
        ("host", &args.storage),
        ("pool", &args.pool),
        ("filesystem", &args.filesystem),
        ("at", &args.at),
        ("address", &args.address),
        ("intake_pool", &args.intake_pool),
        ("subnet", &args.subnet),
    ] {
        if let Some(value) = value {
            line(name, quoted(value));
        }
    }
    if args.selinux {
        line("selinux", "true".into());
    }
    for Of { name, of } in &args.apps {
        out += &format!("\n[apps.{}]\n", toml_key(name));
        if let Some(reach) = of {
            out += &format!("reach = {}\n", quoted(reach));
        }
        if args.selinux {
            out += "selinux = true\n";
        }
    }
    // A service that is given for several roles has them all.
    let mut services: Vec<(&Member, Vec<&str>)> = Vec::new();
    for (members, role) in [(&args.serve, "serve"), (&args.fetch, "fetch"), (&args.sort, "sort")] {
        for member in members {
            match services.iter_mut().find(|(known, _)| *known == member) {
                Some((_, roles)) => roles.push(role),
                None => services.push((member, vec![role])),
            }
        }
    }
    for (Member { name, id, host }, roles) in services {
        out += &format!("\n[service.{}]\n", toml_key(name));
        let roles: Vec<String> = roles.iter().map(|role| quoted(role)).collect();
        out += &format!("role = [{}]\nid = {id}\n", roles.join(", "));
        if let Some(host) = host {
            out += &format!("host = {}\n", quoted(host));
        }
    }
    if !args.add.is_empty() || !args.watch.is_empty() {
        let people = |members: &[Member]| {
            let people: BTreeMap<&str, u32> =
                members.iter().map(|m| (m.name.as_str(), m.id)).collect();
            let people: Vec<String> =
                people.iter().map(|(name, id)| format!("{} = {id}", toml_key(name))).collect();
            format!("{{ {} }}", people.join(", "))
        };
        out +=
            &format!("\n[people]\nadd = {}\nwatch = {}\n", people(&args.add), people(&args.watch));
    }
    for Of { name, of } in &args.client {
        out += &format!("\n[client.{}]\n", toml_key(name));
        if let Some(os) = of {
            out += &format!("os = {}\n", quoted(os));
        }
    }
    out
}

fn toml_string(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

fn toml_key(text: &str) -> String {
    let bare = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-');
    if !text.is_empty() && text.bytes().all(bare) { text.to_owned() } else { toml_string(text) }
}

/// Asks for what is needed, one by one. An empty answer takes what stands in brackets.
fn questions(input: &mut impl BufRead) -> Result<BriefOptions, Failure> {
    let mut ask = |question: &str, usual: &str| ask(input, question, usual);
    Ok(BriefOptions {
        site: Some(ask("Name of the site", "My site")?),
        storage: Some(ask("Storage host", "storage")?),
        filesystem: Some(ask("Its filesystem: zfs, btrfs, xfs or ext4", "zfs")?),
        pool: Some(ask("Its pool, or the label of its volume", "tank")?),
        kind: words(&ask(
            "Kinds of media: films series music photos books home-video",
            "films series music",
        )?),
        original: words(&ask("Of those, what can't be replaced", "none")?),
        apps: parsed(&ask(
            "Other hosts that run services, as NAME or NAME:nfs or NAME:smb",
            "none",
        )?)?,
        serve: parsed(&ask("Services that serve, as NAME=UID", "player=840")?)?,
        fetch: parsed(&ask("Services that fetch, as NAME=UID or NAME=UID@HOST", "none")?)?,
        sort: parsed(&ask("Services that sort, as NAME=UID or NAME=UID@HOST", "none")?)?,
        add: parsed(&ask("People who may add and change, as NAME=UID", "none")?)?,
        watch: parsed(&ask("People who only watch, as NAME=UID", "none")?)?,
        client: parsed(&ask("Their machines, as NAME:windows, NAME:macos or NAME:linux", "none")?)?,
        containers: Some(ask("What runs the services: docker, podman or none", "docker")?),
        selinux: matches!(ask("Does SELinux enforce? yes or no", "no")?.as_str(), "yes" | "y"),
        ..BriefOptions::default()
    })
}

fn ask(input: &mut impl BufRead, question: &str, usual: &str) -> Result<String, Failure> {
    let mut err = io::stderr().lock();
    write!(err, "{question} [{usual}]: ")?;
    err.flush()?;
    let mut line = String::new();
    if input.read_line(&mut line)? == 0 {
        return Err(Failure::with_remedy("the questions were broken off", "nothing was written"));
    }
    let answer = line.trim();
    Ok(if answer.is_empty() { usual } else { answer }.to_owned())
}

fn words(answer: &str) -> Vec<String> {
    let words = answer.split([' ', ',']).filter(|word| !word.is_empty() && *word != "none");
    words.map(str::to_owned).collect()
}

fn parsed<T: std::str::FromStr<Err = String>>(answer: &str) -> Result<Vec<T>, Failure> {
    words(answer).iter().map(|word| word.parse().map_err(Failure::new)).collect()
}
