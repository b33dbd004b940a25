//! `tarvek access`.

use tarvek_core::access::{Need, judge};
use tarvek_core::facts::tree::EntryKind;
use tarvek_core::library::below;
use tarvek_core::route::{End, Route, follow};
use tarvek_core::site::Site;
use tarvek_core::text::shown;
use tarvek_host::observe::Depth;

use crate::cli::{AccessArgs, Format, Globals};
use crate::inputs;
use crate::outcome::{Failure, Outcome};
use crate::view::{Stage, access, json};

pub(super) fn run(globals: &Globals, args: &AccessArgs, stage: &Stage) -> Result<Outcome, Failure> {
    let depth = if args.below { Depth::Everything } else { Depth::Names };
    let asked = inputs::asked(globals, args.from.as_deref(), &args.path, depth)?;
    let (subject, remark) = match &args.subject {
        Some(written) => inputs::subject(&asked.site, &asked.view, written)?,
        None => inputs::usual_subject(&asked),
    };
    let route = follow(&asked.site, &asked.view, &asked.path, &subject);
    if let End::Missing(_) = &route.end
        && judge(&asked.site, &route, Need::Read).errno == Some("ENOENT")
    {
        return Err(Failure::new(format!("{} does not exist: {}", asked.path, route.end.words())));
    }
    let kind = kind(&asked.site, &route);
    let needs: Vec<Need> = match args.need.as_slice() {
        [] => Need::ALL
            .into_iter()
            .filter(|need| kind.is_none_or(|kind| need.applies_to(kind)))
            .collect(),
        asked => asked.iter().map(|need| (*need).into()).collect(),
    };
    let verdicts: Vec<_> = needs.into_iter().map(|need| judge(&asked.site, &route, need)).collect();
    let below = (args.below && kind == Some(EntryKind::Folder)).then(|| below(&asked.site, &route));
    let text = match args.format {
        Format::Text => {
            let entry = route.hops.last().map(|hop| hop.note.as_str()).filter(|_| kind.is_some());
            let typed = shown(args.path.as_encoded_bytes());
            let mut text =
                access::text(&typed, entry, &subject, remark.as_deref(), &verdicts, stage);
            if let Some(below) = &below {
                text += &access::below(below, stage);
            }
            text
        }
        Format::Json => {
            json::text(&json::Access::new(&asked.path, &subject, &verdicts, below.as_ref()))
        }
    };
    stage.say(&text)?;
    let decisive = verdicts.iter().filter(|v| !args.need.is_empty() || v.need == Need::Read);
    let mut answers: Vec<Option<bool>> = decisive.map(|verdict| verdict.allowed).collect();
    answers.extend(below.map(|below| match (below.unreadable, below.unseen) {
        (0, 0) => Some(true),
        (0, _) => None,
        _ => Some(false),
    }));
    Ok(if answers.contains(&Some(false)) {
        Outcome::Found
    } else if answers.contains(&None) {
        Outcome::Unanswered
    } else {
        Outcome::Fine
    })
}

fn kind(site: &Site, route: &Route) -> Option<EntryKind> {
    let (step, node) = route.entry()?;
    Some(site.tree(&step.seen_on)?.meta(node).kind)
}
