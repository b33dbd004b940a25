//! `tarvek link`.

use tarvek_core::judge::access_check::absent;
use tarvek_core::kernel::subject::Subject;
use tarvek_core::link::below::{Holds, holds};
use tarvek_core::link::hard::hardlink;
use tarvek_core::link::link_paths::LinkPaths;
use tarvek_core::link::moved::rename;
use tarvek_core::link::picture::mounts;
use tarvek_core::link::verdict::{NameOperation, Verdict};
use tarvek_core::remedy::verified_fix::mended;
use tarvek_core::rules::registry::judge_again;
use tarvek_core::words::path::AbsPath;
use tarvek_host::observe::Depth;

use super::prove_link::prove;
use crate::cli::{Format, Globals, LinkArgs};
use crate::inputs::{self, Query, Reading, Typed};
use crate::outcome::{Failure, Outcome};
use crate::view::{Screen, json, link};

pub(super) fn run(globals: &Globals, args: &LinkArgs, screen: &Screen) -> Result<Outcome, Failure> {
    let from = (args.from.as_os_str(), Depth::Everything);
    // What is really tried is tried once.
    let reading = if args.prove { Reading::Whole } else { Reading::InPart };
    let (mut asked, other) =
        inputs::asked_for_two(globals, args.view.as_deref(), from, Some(&args.to), reading)?;
    let to = other.expect("two paths were given");
    let (text, outcome) = asked.settled(|asked| answer(globals, args, asked, &to, screen))?;
    screen.tell_partial(asked.site.partial());
    screen.say(&text)?;
    Ok(outcome)
}

fn answer(
    globals: &Globals,
    args: &LinkArgs,
    asked: &Query,
    (to, written): &Typed,
    screen: &Screen,
) -> Result<(String, Outcome), Failure> {
    let (subject, remark) = match &args.subject {
        Some(who) => inputs::subject(&asked.site, &asked.view, who)?,
        None => inputs::usual_subject(asked),
    };
    let ends = LinkPaths::of(&asked.site, &asked.view, &subject, &asked.written, written);
    let name = ends.source.name.as_ref().expect("a path was given");
    if let Some(why) = absent(&asked.site, name) {
        return Err(Failure::new(format!("{} does not exist: {why}", asked.path)));
    }
    let mut verdicts = [hardlink(&ends), rename(&ends)];
    if args.prove {
        verdicts = prove(asked, &subject, &ends, verdicts, screen)?;
    }
    let [hardlink, rename] = verdicts;
    let held = holds(&ends);
    // What would change things for a process is told of the host's own paths; it has none.
    let mended = match asked.process {
        None if !globals.quiet => {
            let (of, verdict) = match refused_below(asked, &subject, held.as_ref(), written) {
                Some((file, verdict)) => (file, verdict),
                None => (name.view_path().clone(), hardlink.clone()),
            };
            mended(&asked.site, &asked.view, &subject, &of, to, &verdict, judge_again)
        }
        _ => None,
    };
    let answer = link::Answer {
        from: &asked.path,
        to,
        view: &asked.view,
        subject: &subject,
        remark: remark.as_deref(),
        hardlink,
        rename,
        holds: held,
        mounts: mounts(&ends),
        mended,
    };
    let text = match args.format {
        Format::Text => link::text(&answer, &asked.layout.name, screen),
        Format::Json => {
            let layout = json::EditedLayout::new(&asked.layout, &asked.site.layout);
            json::text(&json::Link::new(&answer, &layout).with_partial(asked.site.partial()))
        }
    };
    let wanted = |deed: &NameOperation| match deed {
        NameOperation::Link => answer.hardlink.possible,
        NameOperation::Rename => answer.rename.possible,
    };
    let wanted: Vec<Option<bool>> = args.need.iter().map(wanted).collect();
    Ok((text, Outcome::of(&wanted)))
}

/// A file of a source folder that could not be linked, of those that what is commonest keeps from
/// it.
fn refused_below(
    asked: &Query,
    subject: &Subject,
    held: Option<&Holds>,
    to: &[u8],
) -> Option<(AbsPath, Verdict)> {
    let refused = held?.causes.iter().find(|cause| cause.possible == Some(false))?;
    let file = refused.examples.first()?;
    let ends = LinkPaths::of(&asked.site, &asked.view, subject, file.as_bytes(), to);
    Some((file.clone(), hardlink(&ends)))
}
