//! `tarvek forecast`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use tarvek_core::check::outlook::{Outlook, Viewer, of_folder, outlooks, since};
use tarvek_core::facts::host::Source;
use tarvek_core::forecast::titles::Detail;
use tarvek_core::judge::access_check::absent;
use tarvek_core::layout::service::{Library, Service, ServiceRole};
use tarvek_core::route::follow;
use tarvek_core::site::join::Site;
use tarvek_core::words::name::Name;
use tarvek_core::words::terms::Kind;
use tarvek_core::words::text::{counted, nearest, shown};
use tarvek_host::media;
use tarvek_host::observe::Depth;
use tarvek_host::store::open_seen;

use super::renames;
use crate::cli::{ForecastArgs, Format, Globals};
use crate::inputs::{self, Opened, Reading};
use crate::outcome::{Failure, Outcome};
use crate::view::forecast::{self, Headers, LibraryForecast};
use crate::view::{Screen, json};

pub(super) fn run(
    globals: &Globals,
    args: &ForecastArgs,
    screen: &Screen,
) -> Result<Outcome, Failure> {
    let titles = args.titles || args.media;
    let every = titles || args.problems || args.renames.is_some() || args.since.is_some();
    let detail = if every { Detail::Everything } else { Detail::Figures };
    let (site, outlooks) = match args.kind {
        Some(kind) => of_folders(globals, args, kind, detail)?,
        None => of_libraries(globals, args, detail)?,
    };
    screen.tell_partial(site.partial());
    let before = match &args.since {
        Some(file) => Some(before(&site, file, &outlooks)?),
        None => None,
    };
    let changes = |n: usize, outlook: &Outlook| {
        let before = &before.as_ref()?[n];
        let (new, gone) = since(&before.forecast, &outlook.forecast);
        Some((new.into_iter().cloned().collect(), gone.into_iter().cloned().collect()))
    };
    let headers = if args.media { Some(headers(&site, &outlooks, screen)) } else { None };
    let told: Vec<LibraryForecast> = outlooks
        .iter()
        .enumerate()
        .map(|(n, outlook)| LibraryForecast {
            outlook,
            since: changes(n, outlook),
            headers: headers.as_ref(),
        })
        .collect();
    let show = match (titles, args.problems) {
        (true, _) => forecast::Show::Titles,
        (_, true) => forecast::Show::Problems,
        _ => forecast::Show::Figures,
    };
    let text = match args.format {
        Format::Text => forecast::text(&told, show, screen),
        Format::Json => json::text(&json::Forecast::new(&told, show).with_partial(site.partial())),
    };
    if let Some(file) = &args.renames {
        let renames = renames::proposals(&site, &outlooks);
        renames::write(file, &renames)?;
        screen.complain(&format!(
            "{} proposed in {}; nothing was renamed\n",
            counted(renames.len() as u64, "rename"),
            inputs::name_of(file)
        ));
    }
    screen.say(&text)?;
    Ok(Outcome::Fine)
}

/// What the headers of all files that would be found say: as surveys have it, or as it is read now.
fn headers(site: &Site, outlooks: &[Outlook], screen: &Screen) -> Headers {
    let mut all = Headers::new();
    let mut lacking: Vec<&Name> = Vec::new();
    let found = outlooks.iter().flat_map(|outlook| &outlook.forecast.found);
    for file in found.flat_map(|found| &found.files) {
        let host = &file.place.host;
        let Some(facts) = site.facts(host) else { continue };
        let media = match facts.media.get(&file.node) {
            Some(known) => known.clone(),
            None if facts.source == Source::Live => {
                let seen = facts.tree.meta(file.node);
                let open = open_seen(&file.place.path, &seen).ok();
                open.and_then(|open| media::facts(open, seen.size).0)
            }
            None => {
                if !lacking.contains(&host) {
                    lacking.push(host);
                }
                None
            }
        };
        all.insert((host.clone(), file.node), media);
    }
    for host in lacking {
        screen.complain(&format!(
            "the survey of {host} lacks headers of media files; `tarvek survey --media` on that \
             host adds them\n"
        ));
    }
    all
}

/// The libraries of the layout.
fn of_libraries(
    globals: &Globals,
    args: &ForecastArgs,
    detail: Detail,
) -> Result<(Site, Vec<Outlook>), Failure> {
    let names: Vec<Name> =
        args.names.iter().map(|name| Name::from(name.to_string_lossy().as_ref())).collect();
    let wanted = |service: &Service, library: &Library| {
        names.is_empty() || names.contains(&library.name) || names.contains(&service.name)
    };
    let (site, by) = match &args.from {
        None => (inputs::site(globals)?.0, None),
        Some(view) => {
            let opened = Opened::new(globals, Some(view), Reading::Whole)?;
            known(&opened.site, &names)?;
            let serving = opened.site.layout.services.iter();
            let libraries = serving.flat_map(|service| {
                service.libraries.iter().filter(move |library| wanted(service, library))
            });
            let roots: Vec<(Vec<u8>, Depth)> = libraries
                .flat_map(|library| &library.roots)
                .filter_map(|root| root.path.as_ref().ok())
                .map(|path| (path.as_bytes().to_vec(), Depth::Everything))
                .collect();
            let opened = opened.looked_at(&roots)?;
            let first = roots.first().map(|(path, _)| path.clone()).unwrap_or_default();
            let subject = opened.usual_subject(&first);
            let seen = Viewer { view: opened.view.clone(), subject };
            (opened.site, Some(seen))
        }
    };
    known(&site, &names)?;
    let by = match (&args.subject, by) {
        (Some(_), None) => {
            return Err(Failure::with_remedy(
                "--as needs a viewpoint, since each service sees the site in its own way",
                "name it: --from service:NAME, or host:NAME",
            ));
        }
        (Some(who), Some(seen)) => {
            Some(Viewer { subject: inputs::subject(&site, &seen.view, who)?.0, ..seen })
        }
        (None, by) => by,
    };
    let all = outlooks(&site, wanted, by.as_ref(), detail);
    Ok((site, all))
}

/// That every name is one of a library or of a serving service.
fn known(site: &Site, names: &[Name]) -> Result<(), Failure> {
    let services = || site.layout.services.iter().filter(|s| s.roles.contains(&ServiceRole::Serve));
    let all: Vec<&Name> = services()
        .flat_map(|s| std::iter::once(&s.name).chain(s.libraries.iter().map(|l| &l.name)))
        .collect();
    for name in names {
        if all.contains(&name) {
            continue;
        }
        let remedy = match nearest(name.raw(), all.iter().map(|name| name.raw())) {
            Some(near) => format!("did you mean {}?", Name::from(near)),
            None => "a folder is read as a library with --kind KIND FOLDER".to_owned(),
        };
        let message = format!("no library and no serving service is called {name}");
        return Err(Failure::with_remedy(message, remedy));
    }
    Ok(())
}

/// Folders, each read as a library of a kind.
fn of_folders(
    globals: &Globals,
    args: &ForecastArgs,
    kind: Kind,
    detail: Detail,
) -> Result<(Site, Vec<Outlook>), Failure> {
    let opened = Opened::new(globals, args.from.as_deref(), Reading::Whole)?;
    let typed = args
        .names
        .iter()
        .map(|name: &OsString| Ok((name, opened.typed(name)?)))
        .collect::<Result<Vec<_>, Failure>>()?;
    let paths: Vec<(Vec<u8>, Depth)> =
        typed.iter().map(|(_, (_, written))| (written.clone(), Depth::Everything)).collect();
    let opened = opened.looked_at(&paths)?;
    let mut all = Vec::new();
    for (name, (path, written)) in &typed {
        let subject = match &args.subject {
            Some(who) => inputs::subject(&opened.site, &opened.view, who)?.0,
            None => opened.usual_subject(written),
        };
        let route = follow(&opened.site, &opened.view, path, &subject);
        if let Some(why) = absent(&opened.site, &route) {
            let message = format!("{} does not exist: {why}", shown(name.as_bytes()));
            return Err(Failure::new(message));
        }
        let seen = Viewer { view: opened.view.clone(), subject };
        all.push(of_folder(&opened.site, path, kind, &seen, detail));
    }
    Ok((opened.site, all))
}

/// The same libraries with what an earlier survey saw of its host in place of what is known of it
/// now.
fn before(site: &Site, file: &Path, outlooks_now: &[Outlook]) -> Result<Vec<Outlook>, Failure> {
    let facts = inputs::survey(file)?;
    if site.facts(&facts.name).is_none() {
        return Err(Failure::with_remedy(
            format!(
                "{} is of the host {}, which has not been surveyed since",
                inputs::name_of(file),
                facts.name
            ),
            "give its present survey with --survey",
        ));
    }
    let old = site.with_instead(facts).map_err(inputs::twice)?;
    let wanted = |service: &Service, library: &Library| {
        outlooks_now
            .iter()
            .any(|now| now.row.service == service.name && now.row.name == library.name)
    };
    Ok(outlooks(&old, wanted, None, Detail::Everything))
}
