//! Rules about space that is taken for nothing, by what names and surveys say without reading
//! anything.

pub mod copies;
pub mod held_by_snapshots;
pub mod hollow;
pub mod leftovers;
pub mod unlinked;
pub mod versions;

use crate::site::join::Site;
use crate::used::areas::wasted;
use crate::used::used_path::UsedPath;
use crate::waste::found::Wasted;
use crate::waste::group::Waste;
use crate::words::about::{About, Affected};
use crate::words::evidence::Evidence;
use crate::words::finding::Finding;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::rule::RuleId;
use crate::words::text::{bytes, counted};

/// A finding for each library and intake with waste of a kind.
fn of_kind(site: &Site, cases: &[UsedPath], kind: Waste, rule: RuleId) -> Vec<Finding> {
    let Some(all) = wasted(site, cases) else { return Vec::new() };
    let told = |(affected, place, wasted): &(Affected, Place, Wasted)| {
        let mut message = format!(
            "{affected}: {} of waste, {}",
            counted(wasted.sum.groups, "group"),
            kind.word()
        );
        if wasted.sum.bytes > 0 {
            message += &format!(", that would give back at most {}", bytes(wasted.sum.bytes));
        }
        if let Some(example) = &wasted.example {
            message += &format!("; such as {}", example.path);
        }
        let review = format!("{}.csv", kind.word());
        let words = format!(
            "with this layout there: `tarvek waste --kind {} --review {review}`, decide in it, \
             then `tarvek reclaim {review} --yes`",
            kind.word()
        );
        rule.finding(About::Host(place.host.clone()))
            .at(place)
            .known(Evidence::Observed)
            .says(message)
            .remedy(Step::on(&place.host, words))
            .affects([affected.clone()])
    };
    all.get(&kind).into_iter().flatten().map(told).collect()
}
