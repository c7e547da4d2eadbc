//! The longest steps under a lock that others need, which should stay below a millisecond. Memory
//! returned to the system after the lock is released is included.
//!
//! The measure is the thread's processor time, so that other load on the machine does not count.

use std::time::Duration;

use comfy_table::Table;
use nix::time::{ClockId, clock_gettime};
use verax_core::guard::lock::{AcquireRequest, LockName, LockTable, SessionId};
use verax_core::guard::{RefillLimits, RefillTable, Refiller, ShareLimits};
use verax_core::store::{EntryFilter, Position};
use verax_core::{
    Entry, Key, Lifetime, NamespaceId, Partition, Precondition, Quota, Store, Tag, Timestamp,
};

use crate::tables::{right_aligned, table};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const NAMESPACE: NamespaceId = NamespaceId(1);
const ENTRIES: u64 = 1_000_000;
const LOCKS: u64 = 20_000;
const GOAL: Duration = Duration::from_millis(1);

/// The measured steps: name, count, and the longest.
struct Steps(Vec<(&'static str, u64, Duration)>);

fn processor_time() -> Result<Duration, Failure> {
    Ok(clock_gettime(ClockId::CLOCK_THREAD_CPUTIME_ID)?.into())
}

impl Steps {
    /// Runs a step `times` times, and keeps the longest.
    fn take(
        &mut self,
        what: &'static str,
        times: u64,
        mut step: impl FnMut(u64) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let mut longest = Duration::ZERO;
        for number in 0..times {
            let before = processor_time()?;
            step(number)?;
            longest = longest.max(processor_time()?.saturating_sub(before));
        }
        self.0.push((what, times, longest));
        Ok(())
    }

    /// Runs a step until nothing is left to do.
    fn until_done(
        &mut self,
        what: &'static str,
        mut step: impl FnMut() -> bool,
    ) -> Result<(), Failure> {
        let (mut longest, mut times, mut more) = (Duration::ZERO, 0, true);
        while more {
            let before = processor_time()?;
            more = step();
            longest = longest.max(processor_time()?.saturating_sub(before));
            times += 1;
        }
        self.0.push((what, times, longest));
        Ok(())
    }
}

fn at(ms: u64) -> Timestamp {
    Timestamp::from_millis(ms)
}

fn put(partition: &Partition, name: &str, value: Vec<u8>, tags: &[Tag]) -> Result<(), Failure> {
    let entry = Entry::new(value, "application/json", Lifetime::of(Duration::from_secs(60)), at(0));
    let entry = entry.with_tags(tags.to_vec());
    partition.put(&Key::new(name)?, &entry, Precondition::Always, at(0))?;
    Ok(())
}

fn of_store(steps: &mut Steps) -> Result<(), Failure> {
    let store = Store::new(512 << 20);
    let partition = store.open(NAMESPACE, Quota::default());
    let tags: Vec<Tag> = vec!["all".into()];
    for number in 0..ENTRIES {
        put(&partition, &format!("gauge/{number}"), vec![7; 64], &tags)?;
    }
    steps.take("a look over a listing that finds nothing, of 1,024 slots", 10, |_| {
        // A page looks at 64 times as many.
        let before = processor_time()?;
        let page = partition.list(&EntryFilter::prefix("none"), Position::default(), 100, at(0));
        let all = processor_time()?.saturating_sub(before);
        assert!(page.entries.is_empty());
        std::hint::black_box(all);
        Ok(())
    })?;
    if let Some((_, _, longest)) = steps.0.last_mut() {
        *longest /= 64;
    }
    steps.take("a page of 1,000 entries", 100, |_| {
        assert_eq!(
            partition
                .list(&EntryFilter::default(), Position::default(), 1_000, at(0))
                .entries
                .len(),
            1_000
        );
        Ok(())
    })?;
    steps.take("a tag that a million entries carry is invalidated", 1, |_| {
        assert!(partition.invalidate_tag("all"));
        Ok(())
    })?;
    steps.until_done("tidying after that, 4 chunks", || store.tidy(4, at(0)).1)?;
    assert_eq!(partition.usage().entries, 0, "all were tidied up");
    for number in 0..ENTRIES {
        put(&partition, &format!("gauge/{number}"), vec![7; 64], &tags)?;
    }
    steps.take("a namespace of a million tagged entries is cleared", 1, |_| {
        assert_eq!(partition.clear(), ENTRIES);
        Ok(())
    })?;
    steps.until_done("giving that back, 4 chunks", || store.tidy(4, at(0)).1)?;
    for number in 0..4 * ENTRIES {
        put(&partition, &format!("gauge/{number}"), vec![7; 64], &[])?;
    }
    steps.take("a put into a full store", 500_000, |number| {
        put(&partition, &format!("late/{number}"), vec![7; 64], &[])
    })?;
    steps.until_done("tidying what has ended, 4 chunks", || store.tidy(4, at(120_000)).1)?;
    assert_eq!(partition.usage().entries, 0, "all were tidied up");
    Ok(())
}

/// Entries with tags of their own, invalidated repeatedly by one common tag.
fn of_tags(steps: &mut Steps) -> Result<(), Failure> {
    let store = Store::new(64 << 20);
    let partition = store.open(NAMESPACE, Quota::default());
    let mut worst = [("a put with a tag of its own", 0, Duration::ZERO); 3];
    worst[1].0 = "an invalidation of a thousand of those";
    worst[2].0 = "tidying after that, 4 chunks";
    let mut timed = |which: usize, step: &mut dyn FnMut() -> Result<bool, Failure>| {
        let before = processor_time()?;
        let more = step()?;
        let taken = processor_time()?.saturating_sub(before);
        worst[which].1 += 1;
        worst[which].2 = worst[which].2.max(taken);
        Ok::<_, Failure>(more)
    };
    for number in 0..400_000u64 {
        let tags: Vec<Tag> = vec![format!("tag-{number}").as_str().into(), "all".into()];
        let name = format!("junk/{number}");
        timed(0, &mut || put(&partition, &name, vec![7], &tags).map(|()| false))?;
        // Many first, so that the tables are large.
        if number > 200_000 && number.is_multiple_of(1_000) {
            timed(1, &mut || Ok(partition.invalidate_tag("all")))?;
            while timed(2, &mut || Ok(store.tidy(4, at(0)).1))? {}
        }
    }
    steps.0.extend(worst);
    Ok(())
}

fn lock(number: u64) -> Result<LockName, Failure> {
    Ok((NAMESPACE, Key::new(format!("berth/{number}"))?))
}

fn request(lease: u64, wait: u64) -> AcquireRequest {
    AcquireRequest {
        owner: "harbor master".to_owned(),
        lease: Duration::from_millis(lease),
        wait: Duration::from_millis(wait),
        session: Some(SessionId(1)),
        access: None,
    }
}

/// A table with many locks held, or one lock that many wait for.
fn locks(held: u64, waiting: u64) -> Result<LockTable<u64>, Failure> {
    let (mut table, mut told) = (LockTable::new(ShareLimits::each(LOCKS as usize)), Vec::new());
    table.begin_epoch(1);
    table.connect(SessionId(1));
    for number in 0..held {
        table.acquire(&lock(number)?, request(60_000, 0), number, at(0), &mut told)?;
    }
    for number in 0..waiting {
        table.acquire(&lock(0)?, request(1_000, 1_000 + number), number, at(0), &mut told)?;
    }
    Ok(table)
}

fn of_locks(steps: &mut Steps) -> Result<(), Failure> {
    let many = LOCKS - 100;
    let mut told = Vec::new();
    let mut table = locks(1, many)?;
    steps.take(
        "a claim of a lock that 19,900 wait for, of which one gives up",
        10_000,
        |number| {
            told.clear();
            table.acquire(
                &lock(0)?,
                request(1_000, 100_000),
                number,
                at(1_000 + number),
                &mut told,
            )?;
            Ok(())
        },
    )?;
    let mut table = locks(1, many)?;
    steps.until_done("19,900 that wait for a lock give up together", || {
        told.clear();
        table.advance(at(30_000), &mut told)
    })?;
    let mut table = locks(many, 0)?;
    steps.until_done("19,900 leases end together", || {
        told.clear();
        table.advance(at(60_000), &mut told)
    })?;
    let mut table = locks(many, 0)?;
    steps.until_done("a connection with 19,900 leases ends", || {
        told.clear();
        table.disconnect(SessionId(1), at(1), &mut told)
    })?;
    let mut table = locks(1, many)?;
    steps.until_done("a connection with 19,900 waits for a lock ends", || {
        told.clear();
        table.disconnect(SessionId(1), at(1), &mut told)
    })?;
    let mut table = locks(many, 0)?;
    steps.take("the names of the longest 1,000 leases of 19,900", 20, |_| {
        assert_eq!(table.longest_held(NAMESPACE, 1_000).len(), 1_000);
        Ok(())
    })?;
    steps.until_done("a namespace with 19,900 locks is deleted", || {
        table.end_namespace(NAMESPACE)
    })?;
    let table = locks(1, many)?;
    steps.take("a look at a lock that 19,900 wait for", 20, |_| {
        assert!(table.peek(&lock(0)?, at(1)).is_some());
        Ok(())
    })
}

fn of_permits(steps: &mut Steps) -> Result<(), Failure> {
    let permits = ShareLimits::each(1_000);
    let limits = RefillLimits { waiters: 10_000, permits, voided: 1_000 };
    let lease = Duration::from_secs(10);
    let caller = Refiller { owner: "boards".into(), access: None };
    let key = |number: u64| Key::new(format!("board/{number}"));
    let full = || -> Result<RefillTable<u64>, Failure> {
        let mut table = RefillTable::new(limits, 1);
        for number in 0..1_000 {
            let acquired =
                table.acquire(NAMESPACE, &key(number)?, &caller, at(0), lease, &mut vec![]);
            acquired.map_err(|refused| format!("{refused:?}"))?;
        }
        for number in 0..10_000 {
            let waited = table.wait(NAMESPACE, &key(0)?, &caller, number, lease);
            waited.map_err(|_| "nobody may wait")?;
        }
        Ok(table)
    };
    let mut table = full()?;
    steps.take("1,000 permits are voided together", 1, |_| {
        table.void_all(NAMESPACE);
        Ok(())
    })?;
    let mut table = full()?;
    steps.take("1,000 permits expire together", 1, |_| {
        table.expire(at(10_000), lease);
        Ok(())
    })?;
    let mut table = full()?;
    steps.take("a view of 1,000 permits", 20, |_| {
        assert_eq!(table.oldest(|of| of == NAMESPACE, 1_000).len(), 1_000);
        Ok(())
    })?;
    steps.take("10,000 that wait for a key are given its value", 1, |_| {
        table.void(NAMESPACE, &key(0)?);
        Ok(())
    })?;
    Ok(())
}

/// The longest of each step.
pub(crate) fn run() -> Result<Table, Failure> {
    let mut steps = Steps(Vec::new());
    of_store(&mut steps)?;
    of_tags(&mut steps)?;
    of_locks(&mut steps)?;
    of_permits(&mut steps)?;
    let mut rows = table(["a step that holds a lock", "taken", "longest", "of 1 ms"]);
    for (what, times, longest) in steps.0 {
        let part = longest.as_secs_f64() / GOAL.as_secs_f64();
        let longest = format!("{:.3} ms", longest.as_secs_f64() * 1_000.0);
        rows.add_row([what.to_owned(), times.to_string(), longest, format!("{part:.2}")]);
    }
    Ok(right_aligned(rows, 1..4))
}
