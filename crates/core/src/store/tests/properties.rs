//! Random steps beside a plain map.

use std::sync::Arc;

use super::*;

#[derive(Debug, Clone)]
enum Step {
    Put { side: bool, key: u8, size: u16, max_age: u16, tag: u8 },
    Get { side: bool, key: u8 },
    Delete { side: bool, key: u8 },
    SetLifetime { side: bool, key: u8, max_age: u16 },
    Add { side: bool, key: u8 },
    InvalidateTag { side: bool, tag: u8 },
    Clear { side: bool },
    Wait(u16),
    Tidy,
}

fn step() -> impl Strategy<Value = Step> {
    let which = || (any::<bool>(), 0..60u8);
    prop_oneof![
        8 => (which(), 0..3_000u16, 1..2_000u16, 0..4u8).prop_map(
            |((side, key), size, max_age, tag)| Step::Put { side, key, size, max_age, tag }
        ),
        5 => which().prop_map(|(side, key)| Step::Get { side, key }),
        1 => which().prop_map(|(side, key)| Step::Delete { side, key }),
        1 => (which(), 0..2_000u16)
            .prop_map(|((side, key), max_age)| Step::SetLifetime { side, key, max_age }),
        1 => (any::<bool>(), 100..105u8).prop_map(|(side, key)| Step::Add { side, key }),
        1 => (any::<bool>(), 0..4u8).prop_map(|(side, tag)| Step::InvalidateTag { side, tag }),
        1 => any::<bool>().prop_map(|side| Step::Clear { side }),
        2 => (0..500u16).prop_map(Step::Wait),
        1 => Just(Step::Tidy),
    ]
}

/// An entry as a plain map has it.
#[derive(Debug, Clone)]
struct Expected {
    value: String,
    ends: u64,
    tag: u8,
}

/// Two partitions of a store, and what a plain map would have in their place.
struct Model {
    store: Store,
    sides: BTreeMap<bool, Arc<Partition>>,
    entries: HashMap<(bool, u8), Expected>,
    now: u64,
    serial: u32,
    /// Whether there is memory for everything, so that nothing is ever evicted.
    roomy: bool,
}

impl Model {
    fn new(limit: u64, caps: [u64; 2], roomy: bool) -> Self {
        let store = Store::new(limit);
        let reserve = 20 << 10;
        let sides = BTreeMap::from([
            (true, store.open(A, Quota { reserve, cap: caps[0], ..Quota::default() })),
            (false, store.open(B, Quota { reserve: 0, cap: caps[1], ..Quota::default() })),
        ]);
        Self { store, sides, entries: HashMap::new(), now: 0, serial: 0, roomy }
    }

    fn alive(&self, side: bool, key: u8) -> Option<&Expected> {
        self.entries.get(&(side, key)).filter(|entry| self.now < entry.ends)
    }

    /// Compares whether the store has an entry with whether it should.
    fn check(&self, has: bool, side: bool, key: u8) -> Result<(), TestCaseError> {
        let alive = self.alive(side, key).is_some();
        prop_assert!(!has || alive, "a dead or removed entry is there");
        prop_assert!(has || !alive || !self.roomy, "an entry is missing although it fits");
        Ok(())
    }

    fn apply(&mut self, step: Step) -> Result<(), TestCaseError> {
        let now = at(self.now);
        match step {
            Step::Put { side, key: name, size, max_age, tag } => {
                self.serial += 1;
                let value = format!("{}:{}", self.serial, "x".repeat(size.into()));
                let mut new = entry(&value, max_age.into(), now);
                if tag > 0 {
                    new = new.with_tags(tags(&[&tag.to_string()]));
                }
                let put =
                    self.sides[&side].put(&key(&name.to_string()), &new, Precondition::Always, now);
                prop_assert!(put.is_ok());
                let ends = self.now + u64::from(max_age);
                self.entries.insert((side, name), Expected { value, ends, tag });
            }
            Step::Get { side, key } => {
                let found = value(&self.sides[&side], &key.to_string(), self.now);
                self.check(found.is_some(), side, key)?;
                if let (Some(found), Some(expected)) = (found, self.alive(side, key)) {
                    prop_assert_eq!(&found, &expected.value);
                }
            }
            Step::Delete { side, key } => {
                let name = key.to_string();
                let was_there = self.sides[&side].delete(&name, now);
                self.check(was_there, side, key)?;
                self.entries.remove(&(side, key));
                prop_assert!(self.sides[&side].peek(&name, now).is_none());
            }
            Step::SetLifetime { side, key, max_age } => {
                let lifetime = Lifetime::of(Duration::from_millis(max_age.into()));
                let changed = self.sides[&side].set_lifetime(&key.to_string(), lifetime, now);
                self.check(changed.is_some(), side, key)?;
                let ends = self.now + u64::from(max_age);
                if changed.is_some()
                    && let Some(entry) = self.entries.get_mut(&(side, key))
                {
                    entry.ends = ends;
                }
            }
            Step::Add { side, key: name } => {
                let lifetime = Lifetime::of(Duration::from_millis(700));
                let counted =
                    self.sides[&side].add(&key(&name.to_string()), 1, lifetime, now).unwrap();
                self.check(!counted.created, side, name)?;
                let before = self.alive(side, name).filter(|_| !counted.created).cloned();
                let ends = before.as_ref().map_or(self.now + 700, |before| before.ends);
                let value = before.map_or(0, |before| before.value.parse::<i64>().unwrap()) + 1;
                prop_assert_eq!(counted.value, value);
                let counter = Expected { value: value.to_string(), ends, tag: 0 };
                self.entries.insert((side, name), counter);
            }
            Step::InvalidateTag { side, tag } => {
                self.sides[&side].invalidate_tag(&tag.to_string());
                self.entries.retain(|(of, _), entry| *of != side || tag == 0 || entry.tag != tag);
            }
            Step::Clear { side } => {
                self.sides[&side].clear();
                self.entries.retain(|(of, _), _| *of != side);
                prop_assert_eq!(self.sides[&side].usage().entries, 0);
            }
            Step::Wait(ms) => self.now += u64::from(ms),
            Step::Tidy => drop(self.store.tidy(2, now)),
        }
        Ok(())
    }

    /// What is counted adds up, and all of it comes back.
    fn end(self) -> Result<(), TestCaseError> {
        tidy(&self.store, self.now);
        let counted: u64 = self.sides.values().map(|side| side.usage().bytes).sum();
        prop_assert_eq!(counted, self.store.used());
        drop(self.sides);
        tidy(&self.store, self.now);
        prop_assert_eq!(self.store.used(), 0);
        Ok(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]

    /// Promises 1, 5 and 6: memory stays within the limit and each cap; a value is only returned
    /// for the namespace and key it was stored under, within its lifetime, and never after an
    /// invalidation; a dead or invalidated entry is never revived by a new lifetime.
    #[test]
    fn memory_is_bounded_and_entries_are_exact(steps in prop::collection::vec(step(), 1..150)) {
        let cap = 40 << 10;
        let mut model = Model::new(64 << 10, [cap, u64::MAX], false);
        for step in steps {
            model.apply(step)?;
            prop_assert!(model.store.used() <= model.store.limit());
            prop_assert!(model.sides[&true].usage().bytes <= cap);
        }
        model.end()?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// With enough memory, every entry that was put is found until it ends or is removed.
    #[test]
    fn with_enough_memory_every_entry_is_found(steps in prop::collection::vec(step(), 1..150)) {
        let mut model = Model::new(8 << 20, [u64::MAX; 2], true);
        for step in steps {
            model.apply(step)?;
        }
        for (side, key) in model.entries.keys().copied().collect::<Vec<_>>() {
            model.apply(Step::Get { side, key })?;
        }
        model.end()?;
    }
}
