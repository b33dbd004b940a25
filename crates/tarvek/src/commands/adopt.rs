//! `tarvek adopt`.

use std::collections::HashSet;
use std::path::Path;

use tarvek_core::adopt::guess::Guess;
use tarvek_core::adopt::{Adoption, adopt};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::part::Part;
use tarvek_formats::layout::{self, extend};
use tarvek_host::files::replace;

use crate::cli::{AdoptArgs, Format};
use crate::inputs::{self, Configured, Following};
use crate::outcome::{Failure, Outcome};
use crate::view::{self, Screen, json};

pub(super) fn run(args: &AdoptArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let following = Following { folders: args.follow.clone(), environment: args.environment };
    let mut read = inputs::configuration(&args.paths, &following)?;
    if args.running {
        read.add(inputs::running()?);
    }
    let (before, known) = match &args.output {
        Some(file) if file.exists() => {
            let bytes = inputs::small_file(file)?;
            let known = layout::read(&inputs::name_of(file), &bytes)?;
            (Some(String::from_utf8_lossy(&bytes).into_owned()), known)
        }
        _ => (None, Layout::default()),
    };
    let broken = !read.refused.is_empty() || !read.failures.is_empty();
    let adoption = adopt(&read.hosts, &known);
    let old = before.as_deref().map(|text| (text, &known));
    let written = match (&args.output, broken) {
        (Some(file), false) => Some(write(file, old, &adoption)?),
        _ => None,
    };
    let guesses = guesses(&adoption, written.as_ref());
    match args.format {
        Format::Json => screen.say(&json::text(&json::Adopt::new(&read.hosts, &guesses)))?,
        Format::Text => {
            let guesses = guesses.iter().map(|(guess, _)| guess);
            screen.say(&view::adopt::text(&read, guesses, screen))?;
        }
    }
    tell_skipped(&read, written.as_ref(), &adoption, screen);
    let Configured { refused, failures, .. } = read;
    for failure in refused.into_iter().map(Failure::from).chain(failures) {
        failure.report(screen);
    }
    match (&args.output, &written) {
        _ if broken => screen.complain("tarvek: nothing was written\n"),
        (Some(file), Some(WrittenLayout { added, .. })) if args.format == Format::Text => {
            screen.say(&view::adopt::written(file, added.len(), before.is_some()))?;
        }
        (None, _) if args.format == Format::Text => {
            screen.say(
                "\nNothing was written; -o FILE writes a layout of this, or adds it to one.\n",
            )?;
        }
        _ => {}
    }
    Ok(if broken { Outcome::Unanswered } else { Outcome::Fine })
}

/// A layout that was written.
struct WrittenLayout {
    layout: Layout,
    added: HashSet<Part>,
    left: Vec<(tarvek_core::words::spot::Spot, String)>,
}

fn write(
    file: &Path,
    old: Option<(&str, &Layout)>,
    adoption: &Adoption,
) -> Result<WrittenLayout, Failure> {
    let site = Name::from("Adopted site");
    let new = extend::extend(old, &site, adoption.clone())?;
    let name = inputs::name_of(file);
    let layout = layout::read(&name, new.text.as_bytes())?;
    if old.is_none_or(|(before, _)| before != new.text) {
        replace(file, new.text.as_bytes()).map_err(|error| {
            Failure::with_remedy(format!("can't write {name}: {error}"), "name another file")
        })?;
    }
    Ok(WrittenLayout { layout, added: new.added, left: new.left })
}

/// What was guessed of parts that are new, each with its line in the layout.
fn guesses(adoption: &Adoption, written: Option<&WrittenLayout>) -> Vec<(Guess, Option<u32>)> {
    let lines = written.map(|written| written.layout.parts());
    let line = |guess: &Guess| {
        let lines = lines.as_ref()?;
        lines.iter().find(|(part, _)| *part == guess.about).map(|(_, line)| *line)
    };
    let is_new =
        |guess: &&Guess| written.is_none_or(|written| written.added.contains(&guess.about));
    adoption.guesses.iter().filter(is_new).map(|guess| (guess.clone(), line(guess))).collect()
}

fn tell_skipped(
    read: &Configured,
    written: Option<&WrittenLayout>,
    adoption: &Adoption,
    screen: &Screen,
) {
    for skipped in read.hosts.iter().flat_map(|(_, configuration)| &configuration.skipped) {
        screen.complain(&format!(
            "{}: {}\n",
            skipped.spot,
            tarvek_core::words::text::shown(skipped.why.as_bytes())
        ));
    }
    let left = adoption.left.iter().chain(written.into_iter().flat_map(|written| &written.left));
    for (spot, why) in left {
        screen.complain(&format!(
            "{spot}: not in the layout: {}\n",
            tarvek_core::words::text::shown(why.as_bytes())
        ));
    }
}
