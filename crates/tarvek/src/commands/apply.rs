//! `tarvek check --apply`.

use similar::TextDiff;
use tarvek_core::check::apply::{Selection, brought_about, compare_reports, select_edits};
use tarvek_core::check::report::{Report, check, goes_through};
use tarvek_core::layout::site::Layout;
use tarvek_core::words::finding::Finding;
use tarvek_core::words::name::Name;
use tarvek_core::words::secret;
use tarvek_core::words::text::{nearest, shown};
use tarvek_formats::layout::{self, document};
use tarvek_host::files::replace;

use crate::cli::{CheckArgs, Format, Globals};
use crate::inputs::{self, Found};
use crate::outcome::{Failure, Outcome};
use crate::view::{self, Screen, json};

pub(super) fn run(
    globals: &Globals,
    args: &CheckArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let found = inputs::find_layout(globals)?.ok_or_else(inputs::no_layout)?;
    let file = found.file.clone();
    let (layout, before) = judged(globals, args, found)?;
    let wanted = wanted(args, &before)?;
    let mut selection = select_edits(&layout.parsed, wanted);
    let (mut text, mut after) = tried(globals, args, &layout, &selection)?;
    if !brought_about(&before, &after).is_empty() && selection.chosen.len() > 1 {
        // One by one, each with those before it: whatever brings something else about is left.
        selection = harmless(globals, args, &layout, selection, &before)?;
        (text, after) = tried(globals, args, &layout, &selection)?;
    }
    if let ([one], [new, ..]) =
        (selection.chosen.as_slice(), brought_about(&before, &after).as_slice())
    {
        let why = brings(new);
        let mut left = selection.left.clone();
        left.push((*one, why));
        selection = Selection { left, ..Selection::default() };
        (text, after) = tried(globals, args, &layout, &selection)?;
    }
    let diff = diff(&layout, &text);
    if args.yes && !selection.edits.is_empty() {
        // What somebody else wrote while this was judged is not written over.
        let now = inputs::find_layout(globals)?.ok_or_else(inputs::no_layout)?;
        if now.text != layout.text {
            let message = format!("{} was changed meanwhile; nothing was written", layout.name);
            return Err(Failure::with_remedy(message, "run it again"));
        }
        replace(&file, text.as_bytes()).map_err(|error| {
            let message = format!("can't write {}: {error}", layout.name);
            Failure::with_remedy(message, "see that the file and its folder can be written")
        })?;
        let again = inputs::find_layout(globals)?.ok_or_else(inputs::no_layout)?;
        after = judged(globals, args, again)?.1;
    }
    let applied = view::apply::Applied {
        diff: &diff,
        selection: &selection,
        outcome: &compare_reports(&before, &after),
        before: &before,
        after: &after,
        written: args.yes,
        file: &layout.name,
    };
    screen.say(&match args.format {
        Format::Text => view::apply::text(&applied, screen),
        Format::Json => {
            let source =
                inputs::LayoutFile { name: layout.name.clone(), text: layout.text.clone() };
            let edited = json::EditedLayout::new(&source, &layout.parsed);
            json::text(&json::Apply::new(&applied, &edited))
        }
    })?;
    Ok(outcome(args, if args.yes { &after } else { &before }))
}

/// A layout as it was read, with what names it in messages.
struct Read {
    name: String,
    text: String,
    parsed: Layout,
}

/// Checks a layout, whatever its file holds.
fn judged(globals: &Globals, args: &CheckArgs, found: Found) -> Result<(Read, Report), Failure> {
    let read = Read {
        name: inputs::name_of(&found.file),
        text: found.text.clone(),
        parsed: found.parsed.clone(),
    };
    let (mut site, _) = inputs::site_in_part(globals, found)?;
    site.site.max_age = args.max_age;
    let report = site.settled_below(goes_through, check)?;
    Ok((read, report))
}

/// The text of the layout with edits made, and what a check says of it.
fn tried(
    globals: &Globals,
    args: &CheckArgs,
    layout: &Read,
    selection: &Selection,
) -> Result<(String, Report), Failure> {
    let text = document::edit(&layout.text, &layout.parsed, &selection.edits).map_err(|fault| {
        Failure::with_remedy(
            format!("{}: the edits can't be made in the file: {fault}", layout.name),
            "name single findings with --only, and report the one that fails",
        )
    })?;
    let parsed = layout::read(&layout.name, text.as_bytes())?;
    let file = inputs::find_layout(globals)?.ok_or_else(inputs::no_layout)?.file;
    let (_, report) = judged(globals, args, Found { file, text: text.clone(), parsed })?;
    Ok((text, report))
}

/// Of some edits those that bring nothing else about, each tried with those before it.
fn harmless<'a>(
    globals: &Globals,
    args: &CheckArgs,
    layout: &Read,
    selection: Selection<'a>,
    before: &Report,
) -> Result<Selection<'a>, Failure> {
    let mut chosen: Vec<&Finding> = Vec::new();
    let mut left = selection.left;
    for finding in selection.chosen {
        let next = select_edits(&layout.parsed, chosen.iter().copied().chain([finding]));
        let (_, after) = tried(globals, args, layout, &next)?;
        match brought_about(before, &after).first() {
            Some(new) => left.push((finding, brings(new))),
            None => chosen.push(finding),
        }
    }
    let harmless = select_edits(&layout.parsed, chosen);
    left.extend(harmless.left);
    Ok(Selection { left, ..harmless })
}

fn brings(new: &Finding) -> String {
    format!("with its edits, {} would be found: {}", new.rule.id, new.message)
}

/// The findings that are meant: all of them, or those of the rules and ids that are named.
fn wanted<'r>(args: &CheckArgs, report: &'r Report) -> Result<Vec<&'r Finding>, Failure> {
    let named = |finding: &Finding, name: &str| finding.rule.id == name || finding.id == name;
    for name in &args.only {
        if !report.findings.iter().any(|finding| named(finding, name)) {
            let known = report.findings.iter().flat_map(|f| [f.rule.id, f.id.as_str()]);
            let remedy = match nearest(name, known) {
                Some(near) => format!("did you mean {near}?"),
                None => "`tarvek check --format json` has the rule and the id of each".to_owned(),
            };
            let name = Name::from(name.as_str());
            return Err(Failure::with_remedy(format!("no finding is of {name}"), remedy));
        }
    }
    let meant = |finding: &&Finding| {
        args.only.is_empty() || args.only.iter().any(|name| named(finding, name))
    };
    Ok(report.findings.iter().filter(meant).collect())
}

/// Both texts as a unified diff; empty where they are the same.
fn diff(layout: &Read, after: &str) -> String {
    // A password may stand in the options of a mount.
    let (before, after) = (secret::hide(&layout.text), secret::hide(after));
    let diff = TextDiff::from_lines(before.as_str(), after.as_str());
    let name = shown(layout.name.as_bytes());
    diff.unified_diff().context_radius(2).header(&name, &name).to_string()
}

pub(super) fn outcome(args: &CheckArgs, report: &Report) -> Outcome {
    let is_ready = !report.board.is_empty() && report.board.iter().all(|row| row.ready);
    match report.any_from(args.fail_on) || !is_ready && !args.allow_unready {
        true => Outcome::Found,
        false => Outcome::Fine,
    }
}
