//! The way of a download: its ways, its steps, and what each step does with the file.

use crate::judge::access_check::judge;
use crate::judge::made::new_entry;
use crate::judge::verdict::Need;
use crate::kernel::entry::Project;
use crate::kernel::new_entry::Making;
use crate::kernel::object::Object;
use crate::layout::intake::{Intake, Want};
use crate::layout::service::Service;
use crate::link::hard::hardlink;
use crate::link::link_paths::{LinkPaths, of_folder};
use crate::link::moved::rename;
use crate::link::verdict::Verdict;
use crate::route::follow;
use crate::route::hops::{Route, View};
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::word::words;

/// A service's way to a folder.
pub struct Way<'a> {
    /// Who goes it.
    pub service: &'a Service,
    /// Where it leads.
    pub route: Route,
}

impl<'a> Way<'a> {
    /// Of a service by its name, to a path of its own.
    pub fn of(site: &'a Site, service: &Name, path: &AbsPath) -> Option<Self> {
        let service = site.layout.service(service)?;
        let (subject, _) = site.subject_of(service);
        let view = View::service(&service.name);
        Some(Self { service, route: follow(site, &view, path, &subject) })
    }

    /// What its service makes at its end, with its own umask.
    pub fn made(&self, site: &'a Site, folder: bool) -> Option<Object<'a>> {
        let making = Making::usual(folder, self.service.umask.unwrap_or(0o022));
        let adds = judge(site, &self.route, Need::Add).is_allowed();
        adds.then(|| new_entry(site, &self.route, making)).flatten()
    }
}

/// The ways of one intake, as far as it declares them.
pub struct Ways<'a> {
    /// The intake.
    pub intake: &'a Intake,
    /// Of the fetching service to its unfinished files.
    pub partial: Option<Way<'a>>,
    /// Of the fetching service to its finished files.
    pub done: Option<Way<'a>>,
    /// Of the sorting service to the same.
    pub reads: Option<Way<'a>>,
    /// Of the sorting service to the library folder.
    pub files_into: Option<Way<'a>>,
}

/// The ways of every intake of a site.
pub fn ways(site: &Site) -> impl Iterator<Item = Ways<'_>> {
    site.layout.intakes.iter().map(move |intake| ways_of(site, intake))
}

/// The ways of one intake.
pub fn ways_of<'a>(site: &'a Site, intake: &'a Intake) -> Ways<'a> {
    let fetch = intake.fetch.as_ref();
    let sort = intake.sort.as_ref();
    let fetched = |path: &AbsPath| Way::of(site, &fetch?.service, path);
    let sorted = |path: &AbsPath| Way::of(site, &sort?.service, path);
    Ways {
        intake,
        partial: fetch.and_then(|fetch| fetched(fetch.partial.as_ref()?)),
        done: fetch.and_then(|fetch| fetched(&fetch.done)),
        reads: sort.and_then(|sort| sorted(&sort.reads)),
        files_into: sort.and_then(|sort| sorted(&sort.files_into)),
    }
}

impl<'a> Ways<'a> {
    /// Where the fetching service makes its files: in the partial folder, if there is one.
    pub fn made_in(&self) -> Option<&Way<'a>> {
        self.partial.as_ref().or(self.done.as_ref())
    }

    /// A file as the fetching service makes it.
    pub fn fetched(&self, site: &'a Site) -> Option<Object<'a>> {
        self.made_in()?.made(site, false)
    }

    /// The project of a file as the fetching service makes it: that of the folder, if it hands it
    /// on.
    fn project(&self, site: &Site) -> Option<Project> {
        let (_, project) = of_folder(site, &self.made_in()?.route)?;
        Some(
            project
                .filter(|project| project.inherits)
                .unwrap_or(Project { id: 0, inherits: false }),
        )
    }

    /// Its steps, as far as both ends are declared.
    pub fn steps(&self, site: &'a Site) -> Vec<Step> {
        let finish = self.partial.as_ref().zip(self.done.as_ref());
        let file = self.reads.as_ref().zip(self.files_into.as_ref());
        let of = |stage, (from, to): (&Way<'a>, &Way<'a>)| self.step(site, stage, from, to);
        finish
            .map(|ends| of(Stage::Finish, ends))
            .into_iter()
            .chain(file.map(|ends| of(Stage::File, ends)))
            .collect()
    }

    fn step(&self, site: &'a Site, stage: Stage, from: &Way<'a>, to: &Way<'a>) -> Step {
        let (view, subject) = (&from.route.view, &from.route.subject);
        let (source, target) = (from.route.asked.as_bytes(), to.route.asked.as_bytes());
        let made = self.fetched(site);
        let ends =
            LinkPaths::of_made(site, view, subject, source, (made, self.project(site)), target);
        let (link, renamed) = (hardlink(&ends), rename(&ends));
        let adds = judge(site, &to.route, Need::Add).allowed();
        Step {
            stage,
            service: from.service.name.clone(),
            from: from.route.asked.clone(),
            to: to.route.asked.clone(),
            does: does(stage, self.intake.want, &link, &renamed, adds),
            link,
            rename: renamed,
        }
    }
}

words! {
    /// A step of an intake.
    pub enum Stage {
        /// A download is finished: it goes from the partial into the done folder.
        Finish = "finish",
        /// It is filed from the done folder into the library.
        File = "file",
    }
}

words! {
    /// What a step comes to.
    pub enum Does {
        /// The file gets a further name, and takes no further space.
        Links = "link",
        /// It is moved without being copied.
        Moves = "rename",
        /// All of it is written again.
        Copies = "copy",
        /// Nothing: whoever does it may not.
        Fails = "fail",
        /// It can't be told.
        Unknown = "unknown",
    }
}

impl Does {
    /// Whether removing the download later gives its space back: a link shares it with the library,
    /// a copy does not.
    pub fn removal_frees(self) -> Option<bool> {
        match self {
            Self::Links => Some(false),
            Self::Copies => Some(true),
            Self::Moves | Self::Fails | Self::Unknown => None,
        }
    }
}

/// One step of an intake.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    pub stage: Stage,
    /// Who does it.
    pub service: Name,
    /// The folder that the file comes from, as that service sees it.
    pub from: AbsPath,
    /// The folder that it goes to.
    pub to: AbsPath,
    pub link: Verdict,
    pub rename: Verdict,
    /// What it comes to.
    pub does: Does,
}

/// What a service does that tries what is wanted, and falls back: a link, else a rename, else a
/// copy.
fn does(stage: Stage, want: Want, link: &Verdict, rename: &Verdict, adds: Option<bool>) -> Does {
    let moved = |otherwise: Does| match rename.possible {
        Some(true) => Does::Moves,
        Some(false) => otherwise,
        None => Does::Unknown,
    };
    // Where nothing can be made at all, a copy fails as well.
    let copied = match adds {
        Some(true) => Does::Copies,
        Some(false) => Does::Fails,
        None => Does::Unknown,
    };
    match (stage, want) {
        (Stage::File, Want::Copy) => copied,
        (Stage::File, Want::Hardlink) => match link.possible {
            Some(true) => Does::Links,
            Some(false) => moved(copied),
            None => Does::Unknown,
        },
        (Stage::Finish, _) | (_, Want::Rename) => moved(copied),
    }
}
