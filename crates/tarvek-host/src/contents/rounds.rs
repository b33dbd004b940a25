//! Which files of one size are equal, without reading a byte more than needed.
//!
//! All files of a size are read in rounds: first bytes; then some of the middle and the last; then
//! from the start to places twice as far each time. After each round those that differ part, and
//! whoever is alone is done. Nothing is read twice, since each keeps its hash so far; at the end
//! that is the BLAKE3 digest of all.
//!
//! Files that are mostly holes may be terabytes long: of those only what is not zero is read and
//! hashed.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use blake3::Hasher;
use rayon::prelude::*;
use rustix::fs::SeekFrom;
use rustix::io::Errno;
use tarvek_core::facts::host::Gap;
use tarvek_core::kernel::entry::Meta;
use tarvek_core::words::path::AbsPath;

use super::mapped;
use super::memory::{CacheLookup, Candidate, Memory, PartialDigests};
use crate::content_fault::ContentFault;
use crate::store::connection::StoreError;
use crate::store::contents::{is_same, open_seen};
use crate::walk::Watch;

/// The bytes of a first look, and of each further part of a sample.
const PART: u64 = 4 << 10;
/// From this size on the middle and the end are looked at before all is read: a hundredth of it
/// would be lost if it were in vain.
const SAMPLED: u64 = 512 << 10;
/// Where the first round of reading from the start ends.
const FIRST: u64 = 1 << 20;
/// At a time: what was copied is hashed while it is still in the nearer caches of a processor.
const BUFFER: usize = 128 << 10;
/// How many files keep their hash so far while others are read; of more, all are read again from
/// the start. That are small ones.
const MOST_OPEN: usize = 4096;

/// What was found out.
#[derive(Debug, Default)]
pub struct Settled {
    /// Digests of files that are equal to at least one other.
    pub digests: HashMap<u32, [u8; 32]>,
    /// Those among them whose digest is one of their blocks, since they are mostly holes.
    pub sparse: HashSet<u32>,
    /// Files that could not be read, or changed meanwhile.
    pub failed: Vec<Gap>,
    /// Bytes of contents that were read.
    pub bytes: u64,
    /// Files of which all was known already.
    pub known: u64,
    /// Files that were taken as unchanged by a sample, since only their inode had changed.
    pub carried: u64,
    /// Why results can't be kept, if they can't.
    pub forgets: Option<StoreError>,
}

/// Parts classes of files of one size into those of equal bytes. `file` says where each is, and
/// what was seen of it.
pub fn settle(
    classes: &[Vec<u32>],
    file: &(dyn Fn(u32) -> Candidate + Sync),
    memory: &dyn Memory,
    watch: &Watch,
) -> Settled {
    let rounds = Rounds {
        file,
        memory,
        watch,
        bytes: AtomicU64::new(0),
        carried: AtomicU64::new(0),
        known: AtomicU64::new(0),
        out: Mutex::default(),
    };
    classes.par_iter().for_each(|class| rounds.class(class));
    let out = rounds.out.into_inner().unwrap_or_else(PoisonError::into_inner);
    Settled {
        bytes: rounds.bytes.into_inner(),
        carried: rounds.carried.into_inner(),
        known: rounds.known.into_inner(),
        ..out
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Round {
    Head,
    Ends,
    /// Up to `FIRST << n`.
    Prefix(u8),
    Whole,
    /// All that is not zero.
    Blocks,
}

/// From this size on holes are not read.
const SPARSE: u64 = 64 << 20;
/// A block that is all zero counts as a hole.
const BLOCK: usize = 64 << 10;

/// Whether most of a file is holes.
fn is_sparse(meta: &Meta) -> bool {
    meta.size >= SPARSE && meta.allocated.is_some_and(|allocated| allocated < meta.size / 2)
}

/// The rounds of files of a size, of which some may be mostly holes.
fn rounds(size: u64, sparse: bool) -> Vec<Round> {
    let mut rounds = Vec::new();
    if size > PART {
        rounds.push(Round::Head);
    }
    if size >= SAMPLED {
        rounds.push(Round::Ends);
    }
    if sparse {
        rounds.push(Round::Blocks);
        return rounds;
    }
    let places = (0..40).take_while(|n| FIRST << n < size);
    rounds.extend(places.map(Round::Prefix));
    rounds.push(Round::Whole);
    rounds
}

struct Member {
    id: u32,
    path: AbsPath,
    meta: Meta,
    taken: PartialDigests,
    /// Whether `taken` holds more than what is kept.
    new: bool,
    /// The hash of the bytes so far, and how many.
    hash: Option<Box<(Hasher, u64)>>,
    /// Whether nothing but its digest is known.
    elsewhere: bool,
}

struct Rounds<'a> {
    file: &'a (dyn Fn(u32) -> Candidate + Sync),
    memory: &'a dyn Memory,
    watch: &'a Watch,
    bytes: AtomicU64,
    carried: AtomicU64,
    known: AtomicU64,
    out: Mutex<Settled>,
}

thread_local! {
    static BYTES: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

/// So many bytes of a file from a place.
fn read(file: &File, at: u64, into: &mut [u8]) -> Result<(), ContentFault> {
    Ok(file.read_exact_at(into, at)?)
}

/// The next bytes of a file of which so many are left: many at a time without copying them, else a
/// few; or all of them.
fn next_bytes(
    file: &File,
    at: u64,
    left: u64,
    all: bool,
    buffer: &mut Vec<u8>,
    take: impl FnOnce(&[u8]),
) -> Result<usize, ContentFault> {
    let count = |most: usize| usize::try_from(left).unwrap_or(most).min(most);
    let mut take = Some(take);
    if left >= FIRST / 2 && !all {
        let count = count(mapped::WINDOW);
        let give = |bytes: &[u8]| take.take().into_iter().for_each(|take| take(bytes));
        if let Some(outcome) = mapped::with(file, at, count, give) {
            return outcome.map(|()| count);
        }
    }
    let count = count(if all { SAMPLED as usize } else { BUFFER });
    buffer.resize(buffer.len().max(count), 0);
    let bytes = &mut buffer[..count];
    read(file, at, bytes)?;
    take.take().into_iter().for_each(|take| take(bytes));
    Ok(count)
}

fn short(hash: &blake3::Hash) -> u64 {
    let bytes = hash.as_bytes();
    u64::from_le_bytes([
        bytes[0], bytes[1], bytes[2], bytes[3], bytes[4], bytes[5], bytes[6], bytes[7],
    ])
}

impl Rounds<'_> {
    fn class(&self, ids: &[u32]) {
        let Some(first) = ids.first() else { return };
        let size = (self.file)(*first).meta.size;
        let members: Vec<Member> = ids.par_iter().filter_map(|id| self.member(*id)).collect();
        let sparse = members.iter().any(|member| is_sparse(&member.meta))
            && !members.iter().any(|member| member.elsewhere);
        self.part(members, &rounds(size, sparse));
    }

    fn stopped(&self) -> bool {
        self.watch.stop.load(Ordering::Relaxed)
    }

    /// A file that is out of it: what was read of it counts if it was only broken off.
    fn failed(&self, mut member: Member, why: ContentFault) {
        if why == ContentFault::Stopped {
            self.keep(&mut member);
        }
        self.fail(member.path, why);
    }

    fn fail(&self, path: AbsPath, why: ContentFault) {
        if why != ContentFault::Stopped {
            self.lock().failed.push(Gap { path, why: why.into() });
        }
    }

    fn lock(&self) -> MutexGuard<'_, Settled> {
        self.out.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn count(&self, bytes: usize) {
        self.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
        self.watch.bytes.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    fn member(&self, id: u32) -> Option<Member> {
        if self.stopped() {
            return None;
        }
        let Candidate { path, meta, digest } = (self.file)(id);
        if let Some(digest) = digest {
            let taken = PartialDigests { whole: Some(digest), ..PartialDigests::default() };
            return Some(Member { id, path, meta, taken, new: false, hash: None, elsewhere: true });
        }
        settle_clock(&meta);
        let mut member = Member {
            id,
            path,
            meta,
            taken: PartialDigests::default(),
            new: false,
            hash: None,
            elsewhere: false,
        };
        match self.memory.recall(&member.path, &meta) {
            CacheLookup::Nothing => {}
            CacheLookup::Unchanged(taken) => member.taken = taken,
            CacheLookup::Touched(taken) => match self.is_as_before(&member, &taken) {
                Ok(true) => {
                    (member.taken, member.new) = (taken, true);
                    self.carried.fetch_add(1, Ordering::Relaxed);
                }
                Ok(false) => {}
                Err(why) => {
                    self.fail(member.path, why);
                    return None;
                }
            },
        }
        Some(member)
    }

    /// Whether a sample of a file is what it was.
    fn is_as_before(&self, member: &Member, taken: &PartialDigests) -> Result<bool, ContentFault> {
        if taken.head.is_none() || taken.whole.or(taken.blocks).is_some() && taken.ends.is_none() {
            return Ok(false);
        }
        let mut now = Member {
            taken: PartialDigests::default(),
            path: member.path.clone(),
            hash: None,
            ..*member
        };
        self.value(&mut now, Round::Head, false)?;
        if taken.ends.is_some() {
            self.value(&mut now, Round::Ends, false)?;
        }
        Ok((now.taken.head, now.taken.ends) == (taken.head, taken.ends))
    }

    /// Parts files that are alike so far.
    fn part(&self, mut members: Vec<Member>, rounds: &[Round]) {
        let Some((&round, rest)) = rounds.split_first().filter(|_| members.len() > 1) else {
            members.into_iter().for_each(|member| self.done(member));
            return;
        };
        // Whose digest is known from elsewhere is not read again to compare it half way.
        let known = |member: &Member| match round {
            Round::Prefix(n) => {
                member.taken.whole.is_some() && !member.taken.prefixes.iter().any(|(k, _)| *k == n)
            }
            _ => false,
        };
        if round == Round::Blocks {
            return self.last(members, true);
        }
        if members.iter().all(|member| member.taken.whole.is_some())
            || members.iter().any(known)
            || members.iter().any(|member| member.elsewhere)
        {
            return self.last(members, false);
        }
        if round == Round::Whole {
            return self.last(members, false);
        }
        let keeps = members.len() <= MOST_OPEN;
        let values: Vec<Result<u64, ContentFault>> =
            members.par_iter_mut().map(|member| self.value(member, round, keeps)).collect();
        let mut parts: HashMap<u64, Vec<Member>> = HashMap::new();
        for (member, value) in members.into_iter().zip(values) {
            match value {
                Ok(value) => parts.entry(value).or_default().push(member),
                Err(why) => self.failed(member, why),
            }
        }
        let parts: Vec<Vec<Member>> = parts.into_values().collect();
        parts.into_par_iter().for_each(|part| self.part(part, rest));
    }

    /// The last round: digests of all that is still in doubt.
    fn last(&self, mut members: Vec<Member>, sparse: bool) {
        let values: Vec<Result<[u8; 32], ContentFault>> = members
            .par_iter_mut()
            .map(|member| match if sparse { member.taken.blocks } else { member.taken.whole } {
                Some(digest) => {
                    self.known.fetch_add(1, Ordering::Relaxed);
                    self.watch.bytes.fetch_add(member.meta.size, Ordering::Relaxed);
                    Ok(digest)
                }
                None => {
                    let digest = if sparse { self.blocks(member) } else { self.digest(member) };
                    // Whoever breaks this off has what was read so far.
                    self.keep(member);
                    digest
                }
            })
            .collect();
        let mut equal: HashMap<[u8; 32], Vec<u32>> = HashMap::new();
        for (member, value) in members.into_iter().zip(values) {
            match value {
                Ok(digest) => {
                    equal.entry(digest).or_default().push(member.id);
                    self.done(member);
                }
                Err(why) => self.failed(member, why),
            }
        }
        let mut out = self.lock();
        for (digest, ids) in equal.into_iter().filter(|(_, ids)| ids.len() > 1) {
            if sparse {
                out.sparse.extend(&ids);
            }
            out.digests.extend(ids.into_iter().map(|id| (id, digest)));
        }
    }

    /// Hashes what is not zero, with its place.
    fn blocks(&self, member: &mut Member) -> Result<[u8; 32], ContentFault> {
        let file = open_seen(&member.path, &member.meta)?;
        let size = member.meta.size;
        let mut hasher = Hasher::new_derive_key("tarvek 2026-11-26 blocks of a sparse file");
        let (mut at, mut done) = (0, 0);
        let mut block = vec![0; BLOCK];
        while at < size {
            if self.stopped() {
                return Err(ContentFault::Stopped);
            }
            // Where a filesystem does not tell, all of it is data (lseek(2)).
            match rustix::fs::seek(&file, SeekFrom::Data(at)) {
                Ok(data) => at = data / BLOCK as u64 * BLOCK as u64,
                Err(Errno::NXIO) => break,
                Err(_) => {}
            }
            if at >= size {
                break;
            }
            let count = usize::try_from(size - at).unwrap_or(BLOCK).min(BLOCK);
            let bytes = &mut block[..count];
            read(&file, at, bytes)?;
            self.bytes.fetch_add(count as u64, Ordering::Relaxed);
            if bytes.iter().any(|byte| *byte != 0) {
                hasher.update(&at.to_le_bytes()).update(bytes);
            }
            at += count as u64;
            self.watch.bytes.fetch_add(at - done, Ordering::Relaxed);
            done = at;
        }
        self.watch.bytes.fetch_add(size.saturating_sub(done), Ordering::Relaxed);
        unchanged(member, &file)?;
        let digest = *hasher.finalize().as_bytes();
        (member.taken.blocks, member.new) = (Some(digest), true);
        Ok(digest)
    }

    /// A file of which nothing more has to be known.
    fn done(&self, mut member: Member) {
        self.watch.entries.fetch_add(1, Ordering::Relaxed);
        self.keep(&mut member);
    }

    /// Keeps what was read of a file, if it is not kept yet.
    fn keep(&self, member: &mut Member) {
        if !std::mem::take(&mut member.new) || !is_settled(&member.meta) {
            return;
        }
        if let Err(why) = self.memory.learn(&member.path, &member.meta, &member.taken) {
            self.lock().forgets = Some(why);
        }
    }

    /// The number of a round, as it is known or read now.
    fn value(&self, member: &mut Member, round: Round, keeps: bool) -> Result<u64, ContentFault> {
        let known = match round {
            Round::Head => member.taken.head,
            Round::Ends => member.taken.ends,
            Round::Prefix(n) => {
                member.taken.prefixes.iter().find(|(k, _)| *k == n).map(|(_, v)| *v)
            }
            Round::Whole | Round::Blocks => None,
        };
        if let Some(value) = known {
            return Ok(value);
        }
        if self.stopped() {
            return Err(ContentFault::Stopped);
        }
        let size = member.meta.size;
        let file = open_seen(&member.path, &member.meta)?;
        let value = match round {
            Round::Head => {
                let bytes = head_bytes(&file, size)?;
                self.count(bytes.len());
                let mut hasher = Hasher::new();
                let value = short(&hasher.update(&bytes).finalize());
                if keeps {
                    member.hash = Some(Box::new((hasher, bytes.len() as u64)));
                }
                member.taken.head = Some(value);
                value
            }
            Round::Ends => {
                let (value, bytes) = ends_of(&file, size)?;
                self.count(bytes);
                member.taken.ends = Some(value);
                value
            }
            Round::Prefix(n) => {
                self.stream(member, &file, FIRST << n)?;
                let value = member.hash.as_ref().map_or(0, |hash| short(&hash.0.finalize()));
                member.taken.prefixes.push((n, value));
                value
            }
            Round::Whole | Round::Blocks => unreachable!("the last round has digests"),
        };
        if !is_same(&file, &member.meta) {
            return Err(ContentFault::Changed);
        }
        member.new = true;
        Ok(value)
    }

    /// Hashes up to a place, from where it was left.
    fn stream(&self, member: &mut Member, file: &File, to: u64) -> Result<(), ContentFault> {
        let mut hash = member.hash.take().unwrap_or_else(|| Box::new((Hasher::new(), 0)));
        let size = member.meta.size;
        BYTES.with_borrow_mut(|buffer| {
            while hash.1 < to {
                if self.stopped() {
                    return Err(ContentFault::Stopped);
                }
                // A small file is read at once, so that a sample of it can be taken on the way.
                let whole = size < SAMPLED;
                let sampled = whole && to == size && size >= 3 * PART;
                let from = hash.1;
                let count = next_bytes(file, from, to - from, whole, buffer, |bytes| {
                    hash.0.update(bytes);
                    if sampled {
                        // All of it that is not at the very start is here.
                        let of = |at: u64| {
                            let start = usize::try_from(at - from).unwrap_or(0);
                            &bytes[start..][..PART as usize]
                        };
                        let ends = ends_value(of(middle_of(size)), of(size - PART));
                        member.taken.ends.get_or_insert(ends);
                    }
                })?;
                self.count(count);
                hash.1 += count as u64;
            }
            Ok(())
        })?;
        member.hash = Some(hash);
        Ok(())
    }

    fn digest(&self, member: &mut Member) -> Result<[u8; 32], ContentFault> {
        if self.stopped() {
            return Err(ContentFault::Stopped);
        }
        let file = open_seen(&member.path, &member.meta)?;
        self.stream(member, &file, member.meta.size)?;
        unchanged(member, &file)?;
        let hash = member.hash.take().map(|hash| hash.0.finalize());
        let whole = *hash.ok_or(ContentFault::Changed)?.as_bytes();
        (member.taken.whole, member.new) = (Some(whole), true);
        Ok(whole)
    }
}

/// Whether a file that was read to its end is what it was, and no longer.
fn unchanged(member: &Member, file: &File) -> Result<(), ContentFault> {
    // A file that grew has more than its size.
    let grown = file.read_at(&mut [0], member.meta.size)? > 0;
    if grown || !is_same(file, &member.meta) { Err(ContentFault::Changed) } else { Ok(()) }
}

/// A write within the same tick of the filesystem's clock leaves the ctime as it is: what was read
/// before it would pass for unchanged. Ticks are 10 ms at most (`CONFIG_HZ`), but for filesystems
/// that count seconds.
const TICK: i64 = 20_000_000;

fn age(meta: &Meta) -> Option<i64> {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).ok()?;
    Some(i64::try_from(now.as_nanos()).ok()? - meta.changed?)
}

/// Waits until the clock has ticked since a file was changed.
fn settle_clock(meta: &Meta) {
    if let Some(left) = age(meta).map(|age| TICK - age).filter(|left| (1..=TICK).contains(left)) {
        std::thread::sleep(Duration::from_nanos(left.cast_unsigned()));
    }
}

/// Whether what was read of a file can be told from what may be written now.
fn is_settled(meta: &Meta) -> bool {
    let seconds = meta.changed.is_some_and(|changed| changed % 1_000_000_000 == 0);
    age(meta).is_some_and(|age| age > if seconds { 2_000_000_000 } else { TICK })
}

fn head_bytes(file: &File, size: u64) -> Result<Vec<u8>, ContentFault> {
    let mut bytes = vec![0; usize::try_from(PART.min(size)).unwrap_or(0)];
    read(file, 0, &mut bytes)?;
    Ok(bytes)
}

/// The number of the middle and the last bytes of a file, and how many those are.
fn ends_of(file: &File, size: u64) -> Result<(u64, usize), ContentFault> {
    let part = usize::try_from(PART.min(size)).unwrap_or(0);
    let (mut middle, mut last) = (vec![0; part], vec![0; part]);
    read(file, middle_of(size), &mut middle)?;
    read(file, size - part as u64, &mut last)?;
    Ok((ends_value(&middle, &last), 2 * part))
}

/// What a sample of an open file says.
pub(crate) fn sample_of(file: &File, meta: &Meta) -> Result<PartialDigests, ContentFault> {
    let head = Some(short(&blake3::hash(&head_bytes(file, meta.size)?)));
    Ok(PartialDigests {
        head,
        ends: Some(ends_of(file, meta.size)?.0),
        ..PartialDigests::default()
    })
}

/// The digest of an open file that was seen, with a sample to know it again by.
pub(crate) fn all_of(
    file: &File,
    meta: &Meta,
    watch: &Watch,
) -> Result<PartialDigests, ContentFault> {
    let mut hasher = Hasher::new();
    let mut at = 0;
    BYTES.with_borrow_mut(|buffer| {
        while at < meta.size {
            if watch.stop.load(Ordering::Relaxed) {
                return Err(ContentFault::Stopped);
            }
            let count = next_bytes(file, at, meta.size - at, false, buffer, |bytes| {
                hasher.update(bytes);
            })?;
            at += count as u64;
            watch.bytes.fetch_add(count as u64, Ordering::Relaxed);
        }
        Ok(())
    })?;
    // What was just read is not read from the disk again.
    Ok(PartialDigests { whole: Some(*hasher.finalize().as_bytes()), ..sample_of(file, meta)? })
}

/// Where the middle part of a sample begins: never within the first.
fn middle_of(size: u64) -> u64 {
    (size / 2).max(PART).min(size.saturating_sub(PART))
}

/// The number of some bytes of the middle and of the last ones.
fn ends_value(middle: &[u8], last: &[u8]) -> u64 {
    let mut hasher = Hasher::new();
    short(&hasher.update(middle).update(last).finalize())
}
