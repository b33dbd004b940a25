//! A site on which a rule fires, as the promises of remedies and the tests of rules need it.

use crate::kernel::subject::{IdMap, IdRange};
use crate::layout::service::UserNs;
use crate::tests::Scene;
use crate::words::terms::Protocol;

/// A rule, a site on which it fires, and what a person makes of those parts of its remedy that are
/// words.
pub(crate) struct Promise {
    pub scene: fn() -> Scene,
    pub by_hand: fn(&mut Scene),
}

pub(crate) fn nothing(_: &mut Scene) {}

/// For changes that hand the scene back.
pub(crate) fn done(_: &mut Scene) {}

pub(crate) fn local(change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::local();
    change(&mut scene);
    scene
}

pub(crate) fn over(protocol: Protocol, change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::over(protocol);
    change(&mut scene);
    scene
}

pub(crate) fn intake(change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::local().with_intake();
    change(&mut scene);
    scene
}

pub(crate) const COPY: &str = "/loft/media/films/Low Water (2003)/Low Water (2003) - Copy.mkv";

/// A site with an intake, and the film once more: the survey knows that both hold the same bytes.
pub(crate) fn equal_files(other: &str) -> Scene {
    intake(|scene| {
        done(scene.tree("granary", &format!("f 0664 1101:2100 {other}")).equal_to_the_film(other));
    })
}

/// A file of the keepers among the films.
pub(crate) fn named(path: &str) -> Scene {
    local(|scene| done(scene.tree("granary", &format!("f 0664 1101:2100 {FILMS}/{path}"))))
}

pub(crate) fn renamed(scene: &mut Scene, old: &str, new: &str) {
    scene.without("granary", &format!("{FILMS}/{old}"));
    scene.tree("granary", &format!("f 0664 1101:2100 {FILMS}/{new}"));
}

pub(crate) fn shifted() -> UserNs {
    UserNs::Ranges(IdMap::both(vec![IdRange { inside: 0, outside: 100_000, count: 1000 }]))
}

pub(crate) const FILMS: &str = "/loft/media/films";
pub(crate) const FILM: &str = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";
