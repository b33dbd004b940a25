//! The review: a line for each name, with a decision for a person to edit.

use tarvek_core::facts::media::Media;
use tarvek_core::waste::group::{Decision, Group, Item, Suggest};
use tarvek_formats::review::{self, Row};

use super::csv::{self, Cell};
use super::json::lossy;
use super::waste::WasteReport;

/// The review of what was found. A spreadsheet changes nothing of it: no cell can be taken for a
/// formula, a date, or a number that it would round.
pub(crate) fn text(told: &WasteReport) -> Vec<u8> {
    let rows = told
        .groups
        .iter()
        .flat_map(|group| group.items.iter().map(move |item| row(told, group, item)));
    csv::text(&review::COLUMNS, rows)
}

fn row<'a>(told: &'a WasteReport, group: &Group, item: &Item) -> Vec<Cell<'a>> {
    let stock = told.stock;
    let meta = stock.tree(item.name).meta(item.name.node);
    let decision = match (told.ignored.has(&group.id), item.suggest) {
        (true, _) => Decision::Ignore,
        (_, Suggest::Keep | Suggest::Look) => Decision::Keep,
        (_, Suggest::Drop) => Decision::Drop,
        (_, Suggest::Link) => Decision::Link,
    };
    let look = if item.suggest == Suggest::Look { "look: " } else { "" };
    let why = match item.why.is_empty() {
        true => format!("{look}{}", group.why),
        false => format!("{look}{} ({})", item.why, group.why),
    };
    let area = stock.area(item.name);
    let digest =
        group.digest.map(|digest| digest.iter().map(|byte| format!("{byte:02x}")).collect());
    let filesystem = meta.device.and_then(|device| told.filesystems.get(&device));
    let row = Row {
        line: 0,
        decision,
        group: group.id.clone(),
        kind: group.kind.word().to_owned(),
        library: area.name.raw().to_owned(),
        host: stock.facts(item.name).name.raw().to_owned(),
        path: stock.path(item.name),
        root: Some(area.place.path.clone()),
        bytes: Some(if told.is_folder(item) { 0 } else { meta.size }),
        filesystem: filesystem.map(|known| known.as_str().to_owned()).unwrap_or_default(),
        device: review::device(&meta),
        inode: meta.inode,
        modified: review::moment(meta.modified),
        changed: meta.changed.map(review::moment).unwrap_or_default(),
        digest: digest.unwrap_or_default(),
        seal: String::new(),
    };
    let media = told.header(item);
    let number = |number: Option<u64>| number.map_or(Cell::Text(String::new()), Cell::Number);
    vec![
        Cell::Text(row.decision.word().to_owned()),
        Cell::Text(row.group.clone()),
        Cell::Text(row.kind.clone()),
        number(row.bytes),
        Cell::Number(item.frees),
        Cell::Text(why),
        Cell::Text(row.library.clone()),
        Cell::Text(row.host.clone()),
        Cell::Text(lossy(&row.path)),
        Cell::Text(review::exact(row.path.as_bytes())),
        Cell::Text(lossy(&area.place.path)),
        Cell::Text(review::exact(area.place.path.as_bytes())),
        Cell::Text(row.filesystem.clone()),
        number(row.device),
        number(row.inode),
        Cell::Text(row.modified.clone()),
        Cell::Text(row.changed.clone()),
        Cell::Text(row.digest.clone()),
        Cell::Text(media.map(picture).unwrap_or_default()),
        number(media.and_then(|media| media.millis).map(|millis| (millis + 500) / 1000)),
        Cell::Text(review::seal(&row)),
    ]
}

/// `1280×720 h264`, as far as a header says so.
fn picture(media: &Media) -> String {
    let size = media.width.zip(media.height).map(|(width, height)| format!("{width}×{height}"));
    let parts: Vec<String> = size.into_iter().chain(media.video.clone()).collect();
    parts.join(" ")
}
