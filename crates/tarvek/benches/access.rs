//! Route and access for every entry of a loaded survey, for one account, and the whole check of a
//! library of that size, on one core. Prints entries per second.

use divan::counter::ItemsCount;
use tarvek_core::check::report::check;
use tarvek_core::facts::build::{NewEntry, TreeBuilder};
use tarvek_core::facts::classes::Extras;
use tarvek_core::facts::host::HostFacts;
use tarvek_core::facts::tree::{Listing, NodeId, Tree};
use tarvek_core::kernel::acl::{Acl, AclEntry, Tag};
use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::kernel::subject::Subject;
use tarvek_core::route::follow;
use tarvek_core::route::hops::View;
use tarvek_core::scan::read::scan;
use tarvek_core::site::join::Site;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::terms::Kind;

/// Entries of the tree, about.
const ENTRIES: u32 = 1_000_000;
/// Files in each folder.
const FILES: u32 = 75;

fn main() {
    divan::main();
}

fn entry(name: String, kind: EntryKind, mode: u16, gid: u32) -> NewEntry {
    let meta = Meta { size: 1 << 20, inode: Some(1), ..Meta::new(kind, mode, 1101, gid) };
    NewEntry::plain(name, meta)
}

/// A storage host with a million entries: most open to a group, some with an ACL, some closed.
fn host() -> HostFacts {
    let folder = |name: &str| entry(name.to_owned(), EntryKind::Folder, 0o755, 0);
    let mut builder = TreeBuilder::new(folder(""));
    let fill = |builder: &mut TreeBuilder, at: NodeId, entries| {
        builder.fill(at, entries, Listing::Complete)
    };
    let loft = fill(&mut builder, Tree::ROOT, vec![folder("loft")])[0];
    let media = fill(&mut builder, loft, vec![folder("media")])[0];
    let acl = Acl::new(vec![
        AclEntry { tag: Tag::UserObj, perm: 7 },
        AclEntry { tag: Tag::GroupObj, perm: 5 },
        AclEntry { tag: Tag::Group(2200), perm: 5 },
        AclEntry { tag: Tag::Mask, perm: 5 },
        AclEntry { tag: Tag::Other, perm: 0 },
    ]);
    let titles = (0..ENTRIES / (FILES + 1))
        .map(|n| {
            let mut title = entry(format!("Title {n:05} (2004)"), EntryKind::Folder, 0o2750, 2100);
            if n % 3 == 0 {
                title.extras = Extras { acl: Some(acl.clone()), ..Extras::default() };
            }
            title
        })
        .collect();
    for title in fill(&mut builder, media, titles) {
        let files = (0..FILES).map(|n| {
            let mode = if (title.0 + n) % 50 == 0 { 0o600 } else { 0o640 };
            entry(format!("Title S01E{n:02}.mkv"), EntryKind::File, mode, 2100)
        });
        fill(&mut builder, title, files.collect());
    }
    HostFacts::of_tree("granary", builder.finish())
}

fn site(layout: &str) -> (Site, usize) {
    let layout = tarvek_formats::layout::read("bench", layout.as_bytes()).expect("it is sound");
    let facts = host();
    let entries = facts.tree.len();
    (Site::join(layout, vec![facts]).expect("one host"), entries)
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn every_entry_for_one_account(bencher: divan::Bencher) {
    let (site, entries) = site("tarvek = 1\nsite = 'bench'\n[host.granary]\nrole = 'storage'\n");
    let subject = Subject::new(840, 840, [2100, 2200]);
    let view = View::host("granary");
    let root = AbsPath::new(b"/loft/media").expect("it is absolute");
    bencher.counter(ItemsCount::new(entries)).bench_local(|| {
        let route = follow(&site, &view, &root, &subject);
        let scan = scan(&site, &route, Kind::Series);
        assert!(scan.entries > 900_000 && scan.unreadable > 10_000);
        scan.files()
    });
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn the_whole_check(bencher: divan::Bencher) {
    let (site, entries) = site(
        "tarvek = 1\nsite = 'bench'\n[host.granary]\nrole = ['storage', 'apps']\n\
         [service.lantern]\nhost = 'granary'\n\
         role = 'serve'\nruns_as = '840:840'\ngroups = ['2100', '2200']\nmap = [{ from = \
         '/loft/media', to = '/media', access = 'ro' }]\n\
         libraries = [{ name = 'Series', kind = 'series', roots = ['/media'] }]\n",
    );
    bencher.counter(ItemsCount::new(entries)).bench_local(|| {
        let report = check(&site);
        assert!(report.board[0].entries > 900_000 && report.board[0].unreadable > 10_000);
        report.findings.len()
    });
}
