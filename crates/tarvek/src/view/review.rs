//! The review: a line for each name, with a decision for a person to edit.

use tarvek_core::facts::media::Media;
use tarvek_core::waste::group::{Group, Item, Suggest};
use tarvek_formats::review;

use super::csv::{self, Cell};
use super::json::lossy;
use super::waste::Told;

/// The review of what was found. A spreadsheet changes nothing of it: no cell can be taken for a formula, a date, or a number that it would round.
pub(crate) fn text(told: &Told) -> Vec<u8> {
    let rows = told
        .groups
        .iter()
        .flat_map(|group| group.items.iter().map(move |item| row(told, group, item)));
    csv::text(&review::COLUMNS, rows)
}

fn row<'a>(told: &'a Told, group: &Group, item: &Item) -> Vec<Cell<'a>> {
    let stock = told.stock;
    let meta = stock.tree(item.name).meta(item.name.node);
    let decision = match (told.ignored.has(&group.id), item.suggest) {
        (true, _) => "ignore",
        (_, Suggest::Look) => "keep",
        (_, suggest) => suggest.word(),
    };
    let look = if item.suggest == Suggest::Look { "look: " } else { "" };
    let why = match item.why.is_empty() {
        true => format!("{look}{}", group.why),
        false => format!("{look}{} ({})", item.why, group.why),
    };
    let area = stock.area(item.name);
    let path = stock.path(item.name);
    let folder = told.is_folder(item);
    let digest =
        group.digest.map(|digest| digest.iter().map(|byte| format!("{byte:02x}")).collect());
    let media = told.header(item);
    let number = |number: Option<u64>| number.map_or(Cell::Text(String::new()), Cell::Number);
    vec![
        Cell::Text(decision.to_owned()),
        Cell::Text(group.id.clone()),
        Cell::Text(group.kind.word().to_owned()),
        Cell::Number(if folder { 0 } else { meta.size }),
        Cell::Number(item.frees),
        Cell::Text(why),
        Cell::Text(area.name.raw().to_owned()),
        Cell::Text(stock.facts(item.name).name.raw().to_owned()),
        Cell::Text(lossy(&path)),
        Cell::Text(review::exact(path.as_bytes())),
        Cell::Text(lossy(&area.place.path)),
        Cell::Text(review::exact(area.place.path.as_bytes())),
        number(review::device(&meta)),
        number(meta.inode),
        Cell::Text(review::moment(meta.modified)),
        Cell::Text(digest.unwrap_or_default()),
        Cell::Text(media.map(picture).unwrap_or_default()),
        number(media.and_then(|media| media.millis).map(|millis| (millis + 500) / 1000)),
    ]
}

/// `1280×720 h264`, as far as a header says so.
fn picture(media: &Media) -> String {
    let size = media.width.zip(media.height).map(|(width, height)| format!("{width}×{height}"));
    let parts: Vec<String> = size.into_iter().chain(media.video.clone()).collect();
    parts.join(" ")
}
