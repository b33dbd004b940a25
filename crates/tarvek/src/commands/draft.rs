//! `tarvek draft`: a brief becomes a layout. However the brief is given, as a file, as options or
//! as answers, it is one text that one reader reads, so that it is judged in one way.

use std::io::{self, BufRead, IsTerminal, Write};
use std::path::Path;

use tarvek_core::draft::{Draft, draft};
use tarvek_formats::{brief, layout};
use toml_edit::{Array, DocumentMut, Item, Table, value};

use crate::cli::{BriefOptions, DraftArgs, Member, NamedOption};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{self, Screen};

pub(super) fn run(args: &DraftArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let (name, text) = match &args.brief {
        Some(file) => (inputs::name_of(file), inputs::small_file(file)?),
        None if args.wish.says_nothing() && io::stdin().is_terminal() => {
            let answers = questions(&mut io::stdin().lock())?;
            ("the answers".to_owned(), of_options(&answers)?.into_bytes())
        }
        None if args.wish.says_nothing() => {
            return Err(Failure::with_remedy(
                "nothing is said of what is wanted",
                "give --brief FILE, or options such as --storage granary --pool loft; on a \
                 terminal you are asked",
            ));
        }
        None => ("the options".to_owned(), of_options(&args.wish)?.into_bytes()),
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

/// The options as a brief.
///
/// # Errors
/// If a name is given twice.
fn of_options(args: &BriefOptions) -> Result<String, Failure> {
    let mut brief = DocumentMut::new();
    brief["brief"] = value(1);
    brief["site"] = value(args.site.as_deref().unwrap_or("Site"));
    for (name, kinds) in [("kinds", &args.kind), ("originals", &args.original)] {
        if !kinds.is_empty() {
            brief[name] = value(Array::from_iter(kinds));
        }
    }
    let words = [("want", &args.want), ("containers", &args.containers), ("backup", &args.backup)];
    put_words(&mut brief, &words);
    if args.no_acls {
        brief["acls"] = value(false);
    }
    let mut storage = Table::new();
    let words = [
        ("host", &args.storage),
        ("pool", &args.pool),
        ("filesystem", &args.filesystem),
        ("at", &args.at),
        ("address", &args.address),
        ("intake_pool", &args.intake_pool),
        ("subnet", &args.subnet),
    ];
    put_words(&mut storage, &words);
    if args.selinux {
        storage["selinux"] = value(true);
    }
    brief["storage"] = Item::Table(storage);
    let mut apps = Table::new();
    for NamedOption { name, of } in &args.apps {
        let mut host = Table::new();
        put_words(&mut host, &[("reach", of)]);
        if args.selinux {
            host["selinux"] = value(true);
        }
        put_new(&mut apps, name, Item::Table(host))?;
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
    let mut all = Table::new();
    for (Member { name, id, host }, roles) in services {
        let mut service = Table::new();
        service["role"] = value(Array::from_iter(roles));
        service["id"] = value(i64::from(*id));
        put_words(&mut service, &[("host", host)]);
        put_new(&mut all, name, Item::Table(service))?;
    }
    let mut people = Table::new();
    for (name, members) in [("add", &args.add), ("watch", &args.watch)] {
        let mut ids = Table::new();
        for member in members {
            put_new(&mut ids, &member.name, value(i64::from(member.id)))?;
        }
        people[name] = Item::Table(ids);
    }
    let mut clients = Table::new();
    for NamedOption { name, of } in &args.client {
        let mut client = Table::new();
        put_words(&mut client, &[("os", of)]);
        put_new(&mut clients, name, Item::Table(client))?;
    }
    for (name, table) in [("apps", apps), ("service", all), ("people", people), ("client", clients)]
    {
        brief[name] = Item::Table(table);
    }
    Ok(brief.to_string())
}

fn put_words(table: &mut Table, words: &[(&str, &Option<String>)]) {
    for (name, word) in words {
        if let Some(word) = word {
            table[*name] = value(word);
        }
    }
}

/// Puts something under a name; nothing has a name twice.
fn put_new(table: &mut Table, name: &str, item: Item) -> Result<(), Failure> {
    match table.insert(name, item) {
        None => Ok(()),
        Some(_) => {
            let remedy = "give each host, person and machine once, and a service one uid for all \
                          of its roles";
            Err(Failure::with_remedy(format!("{name} is given twice"), remedy))
        }
    }
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
