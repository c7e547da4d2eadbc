//! All refills under way: who holds which permit, and who waits for it.

use std::collections::{BTreeMap, BTreeSet, BinaryHeap, HashMap, VecDeque};
use std::time::Duration;

use super::super::lock::AccessId;
use super::{
    ClaimRefused, GivenBack, HeldBy, Joined, Lapsed, LivePermit, Permit, PermitNumber, PermitView,
    RefillLimits, Refiller, Refused, RefusedReason, Voided, WaitTicket,
};
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

#[derive(Debug)]
struct Waiting<W> {
    waiter: W,
    /// The hold that the caller gets if it becomes the holder.
    hold: Duration,
    /// Who it is; `None` for one that leaves refills to the service.
    caller: Option<Refiller>,
}

#[derive(Debug)]
struct Flight<W> {
    number: PermitNumber,
    since: Timestamp,
    ends_at: Timestamp,
    held_by: HeldBy,
    /// In the order of their tickets, which is the one they came in.
    line: Line<W>,
}

type Line<W> = BTreeMap<WaitTicket, Waiting<W>>;

impl<W> Flight<W> {
    fn live(&self) -> LivePermit {
        LivePermit { number: self.number, since: self.since, ends_at: self.ends_at }
    }

    fn shown(&self, namespace: NamespaceId, key: &Key) -> PermitView {
        PermitView {
            namespace,
            key: key.clone(),
            permit: self.live(),
            held_by: self.held_by.clone(),
            waiting: self.line.len(),
        }
    }

    fn into_waiters(self) -> Vec<W> {
        self.line.into_values().map(|waiting| waiting.waiter).collect()
    }
}

/// All refills under way, with whatever represents a waiting caller as `W`.
#[derive(Debug)]
pub struct RefillTable<W> {
    live: HashMap<(NamespaceId, Key), Flight<W>>,
    /// When each live permit lapses.
    ends: BTreeMap<(Timestamp, PermitNumber), (NamespaceId, Key)>,
    /// How many permits callers hold in each namespace.
    held: HashMap<NamespaceId, usize>,
    /// Kept until their time is over: their holders are to hear that they were voided, and callers may
    /// wait for a voided permit of the service, whose value they may still have.
    voided: HashMap<PermitNumber, (NamespaceId, Key, Flight<W>)>,
    /// When each voided one is forgotten.
    voided_ends: BTreeSet<(Timestamp, PermitNumber)>,
    /// Those that callers held, oldest first, and some that are forgotten already.
    voided_held: VecDeque<PermitNumber>,
    last_number: u64,
    last_ticket: u64,
    limits: RefillLimits,
}

impl<W> RefillTable<W> {
    /// An empty table with some limits, whose permits are
    /// numbered from `first_number` on. Permits that callers hold outlive a restart of the service, so
    /// it should be a number that was hardly used before, such as a random one.
    pub fn new(limits: RefillLimits, first_number: u64) -> Self {
        Self {
            live: HashMap::new(),
            ends: BTreeMap::new(),
            held: HashMap::new(),
            voided: HashMap::new(),
            voided_ends: BTreeSet::new(),
            voided_held: VecDeque::new(),
            last_number: first_number,
            last_ticket: 0,
            limits,
        }
    }

    fn ticket(&mut self) -> WaitTicket {
        self.last_ticket += 1;
        WaitTicket(self.last_ticket)
    }

    /// Takes a live permit out.
    fn take(&mut self, place: &(NamespaceId, Key)) -> Option<Flight<W>> {
        let flight = self.live.remove(place)?;
        self.ends.remove(&(flight.ends_at, flight.number));
        self.count_held(place.0, &flight.held_by, false);
        Some(flight)
    }

    fn count_held(&mut self, namespace: NamespaceId, held_by: &HeldBy, begins: bool) {
        if !matches!(held_by, HeldBy::Caller(_)) {
            return;
        }
        let held = self.held.entry(namespace).or_default();
        *held = if begins { *held + 1 } else { held.saturating_sub(1) };
        if *held == 0 {
            self.held.remove(&namespace);
        }
    }

    fn start(
        &mut self,
        (namespace, key): (NamespaceId, &Key),
        held_by: HeldBy,
        line: Line<W>,
        now: Timestamp,
        hold: Duration,
    ) -> Permit {
        self.last_number = self.last_number.wrapping_add(1);
        let (number, ends_at) = (PermitNumber(self.last_number), now + hold);
        let place = (namespace, key.clone());
        self.take(&place);
        self.count_held(namespace, &held_by, true);
        self.ends.insert((ends_at, number), place.clone());
        self.live.insert(place, Flight { number, since: now, ends_at, held_by, line });
        Permit { namespace, key: key.clone(), number, ends_at }
    }

    /// A caller asks for a missing key and will wait for it; the first one gets a permit of the
    /// service, which lapses after `hold`.
    pub fn join(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        waiter: W,
        now: Timestamp,
        hold: Duration,
    ) -> Joined<W> {
        let most_waiters = self.limits.waiters;
        let (ticket, waiting) = (self.ticket(), Waiting { waiter, hold, caller: None });
        let Some(flight) = self.live.get_mut(&(namespace, key.clone())) else {
            let line = Line::from([(ticket, waiting)]);
            return Joined::Holder(self.start((namespace, key), HeldBy::Service, line, now, hold));
        };
        if flight.line.len() >= most_waiters {
            return Joined::Full(waiting.waiter);
        }
        flight.line.insert(ticket, waiting);
        if now < flight.ends_at {
            return Joined::Waiting(flight.number);
        }
        // The holder let its time lapse: the service takes over, for all who waited.
        let line = std::mem::take(&mut flight.line);
        Joined::Holder(self.start((namespace, key), HeldBy::Service, line, now, hold))
    }

    /// Asks for a permit of the service without waiting, to refresh an entry in the background; `None`
    /// when another permit for the key is live.
    pub fn begin(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        now: Timestamp,
        hold: Duration,
    ) -> Option<Permit> {
        let line = match self.live.get_mut(&(namespace, key.clone())) {
            Some(flight) if now < flight.ends_at => return None,
            Some(flight) => std::mem::take(&mut flight.line),
            None => Line::new(),
        };
        Some(self.start((namespace, key), HeldBy::Service, line, now, hold))
    }

    /// Asks for a permit for a caller that refills by itself. If one is live, it says which; the caller
    /// may [wait](Self::wait) for it. Callers whose turn it is, because the one before let its time
    /// lapse, are added to `turns`.
    ///
    /// # Errors
    /// [`ClaimRefused`]: the permit that is live, or too many in the namespace.
    pub fn claim(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        caller: &Refiller,
        now: Timestamp,
        hold: Duration,
        turns: &mut Vec<(Permit, W)>,
    ) -> Result<Permit, ClaimRefused> {
        if self.live.get(&(namespace, key.clone())).is_some_and(|flight| flight.ends_at <= now) {
            turns.extend(self.next_turn(namespace, key, now));
        }
        match self.live.get(&(namespace, key.clone())) {
            Some(flight) => Err(ClaimRefused::Live(flight.live())),
            None if self.held.get(&namespace).copied().unwrap_or(0) >= self.limits.permits => {
                Err(ClaimRefused::Full)
            }
            None => {
                let (line, held_by) = (Line::new(), HeldBy::Caller(caller.clone()));
                Ok(self.start((namespace, key), held_by, line, now, hold))
            }
        }
    }

    /// Waits for the live permit of a key; `hold` is what the caller gets if its turn comes.
    ///
    /// # Errors
    /// The waiter, when no permit is live or too many wait for it.
    pub fn wait(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        caller: &Refiller,
        waiter: W,
        hold: Duration,
    ) -> Result<WaitTicket, W> {
        let (ticket, most_waiters) = (self.ticket(), self.limits.waiters);
        let flight = self.live.get_mut(&(namespace, key.clone()));
        match flight.filter(|flight| flight.line.len() < most_waiters) {
            Some(flight) => {
                flight.line.insert(ticket, Waiting { waiter, hold, caller: Some(caller.clone()) });
                Ok(ticket)
            }
            None => Err(waiter),
        }
    }

    /// Takes a caller out of the line; returns whether it was in it.
    pub fn leave(&mut self, namespace: NamespaceId, key: &Key, ticket: WaitTicket) -> bool {
        let flight = self.live.get_mut(&(namespace, key.clone()));
        flight.is_some_and(|flight| flight.line.remove(&ticket).is_some())
    }

    /// Ends a key's flight and gives the next permit to the first in line, if there is one.
    fn next_turn(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        now: Timestamp,
    ) -> Option<(Permit, W)> {
        let mut flight = self.take(&(namespace, key.clone()))?;
        let (_, Waiting { waiter, hold, caller }) = flight.line.pop_first()?;
        // One without a name hands its turn to the service at once.
        let service = || Refiller { owner: "the service".into(), access: None };
        let held_by = HeldBy::Caller(caller.unwrap_or_else(service));
        let permit = self.start((namespace, key), held_by, flight.line, now, hold);
        Some((permit, waiter))
    }

    /// A caller whose turn came leaves the refill to the service, and waits with the others.
    ///
    /// # Errors
    /// The waiter, when the permit is over.
    pub fn leave_to_service(&mut self, permit: &Permit, waiter: W) -> Result<(), W> {
        let ticket = self.ticket();
        let flight = self.live.get_mut(&(permit.namespace, permit.key.clone()));
        let Some(flight) = flight.filter(|flight| flight.number == permit.number) else {
            return Err(waiter);
        };
        let held_by = std::mem::replace(&mut flight.held_by, HeldBy::Service);
        // Everybody who waits for the service is answered together, so the place in line does not
        // matter.
        flight.line.insert(ticket, Waiting { waiter, hold: Duration::ZERO, caller: None });
        self.count_held(permit.namespace, &held_by, false);
        Ok(())
    }

    /// The holder is done, with a value or, if it is the service, with a failure; the permit ends and
    /// its waiters are handed back. `now` decides whether it was in time.
    ///
    /// # Errors
    /// [`Refused`] when the permit was voided or had lapsed: the value must not be stored.
    pub fn finish(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
        now: Timestamp,
    ) -> Result<Vec<W>, Refused<W>> {
        if let Some(waiters) = self.take_voided(namespace, key, number) {
            return Err(Refused { reason: RefusedReason::Voided, waiters });
        }
        let target = (namespace, key.clone());
        match self.live.get(&target) {
            // A caller's permit that lapsed is passed on by time, not by the late holder.
            Some(flight) if flight.number == number => {
                let in_time = now < flight.ends_at;
                if !in_time && matches!(flight.held_by, HeldBy::Caller(_)) {
                    let (reason, waiters) = (RefusedReason::Lapsed, Vec::new());
                    return Err(Refused { reason, waiters });
                }
                let waiters = self.take(&target).map(Flight::into_waiters);
                let waiters = waiters.unwrap_or_default();
                if in_time {
                    Ok(waiters)
                } else {
                    Err(Refused { reason: RefusedReason::Lapsed, waiters })
                }
            }
            _ => Err(Refused { reason: RefusedReason::Lapsed, waiters: Vec::new() }),
        }
    }

    /// Forgets a voided permit; `None` when this one was not voided.
    fn take_voided(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
    ) -> Option<Vec<W>> {
        // Only its own key's: a holder could name any number.
        let own = |(of, own, _): &(NamespaceId, Key, _)| *of == namespace && own == key;
        self.voided.get(&number).filter(|voided| own(voided))?;
        self.forget_voided(number).map(Flight::into_waiters)
    }

    /// The holder gives its permit back without a value. With `next` the first in line becomes the
    /// holder; without it, or when nobody waits, the refill has failed for all who wait.
    ///
    /// # Errors
    /// Why the permit was over already.
    pub fn give_back(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
        next: bool,
        now: Timestamp,
    ) -> Result<GivenBack<W>, RefusedReason> {
        if self.voided.get(&number).is_some_and(|(of, own, _)| *of == namespace && own == key) {
            // It is forgotten in time, with those who may still wait for it.
            return Err(RefusedReason::Voided);
        }
        let flight = self.live.get(&(namespace, key.clone()));
        if !flight.is_some_and(|flight| flight.number == number && now < flight.ends_at) {
            return Err(RefusedReason::Lapsed);
        }
        if !next {
            let flight = self.take(&(namespace, key.clone()));
            return Ok(GivenBack::Failed(flight.map(Flight::into_waiters).unwrap_or_default()));
        }
        Ok(match self.next_turn(namespace, key, now) {
            Some((permit, waiter)) => GivenBack::Turn(permit, waiter),
            None => GivenBack::Failed(Vec::new()),
        })
    }

    /// Ends the permits and waits that were asked for with an access which is withdrawn. Callers whose
    /// turn it is then are added to `turns`; those who waited with that access must know by
    /// themselves that it has ended.
    pub fn withdraw(&mut self, access: AccessId, now: Timestamp, turns: &mut Vec<(Permit, W)>) {
        let is_of = |caller: &Refiller| caller.access == Some(access);
        let mut ended = Vec::new();
        for (place, flight) in &mut self.live {
            flight.line.retain(|_, waiting| !waiting.caller.as_ref().is_some_and(is_of));
            if matches!(&flight.held_by, HeldBy::Caller(caller) if is_of(caller)) {
                ended.push((flight.number, place.clone()));
            }
        }
        // In the order of their beginning, so that turns come in an order that can be foretold.
        ended.sort_unstable_by_key(|(number, _)| *number);
        for (_, (namespace, key)) in ended {
            turns.extend(self.next_turn(namespace, &key, now));
        }
    }

    fn void_flight(
        &mut self,
        (namespace, key): (NamespaceId, Key),
        mut flight: Flight<W>,
        voided: &mut Voided<W>,
    ) {
        voided.permits += 1;
        if matches!(flight.held_by, HeldBy::Caller(_)) {
            let line = std::mem::take(&mut flight.line);
            voided.waiters.extend(line.into_values().map(|waiting| waiting.waiter));
            // Their holders hear that they were voided, as long as there are not too many of them.
            if self.voided_held.len() >= self.limits.voided
                && let Some(oldest) = self.voided_held.pop_front()
            {
                self.forget_voided(oldest);
            }
            self.voided_held.push_back(flight.number);
        }
        self.voided_ends.insert((flight.ends_at, flight.number));
        self.voided.insert(flight.number, (namespace, key, flight));
    }

    fn forget_voided(&mut self, number: PermitNumber) -> Option<Flight<W>> {
        let (_, _, flight) = self.voided.remove(&number)?;
        self.voided_ends.remove(&(flight.ends_at, number));
        Some(flight)
    }

    /// The key was invalidated or written: a live permit for it is voided. Callers who come later
    /// start a new refill. Those who wait for the service are handed back when it finishes or its
    /// time ends, since they asked before the invalidation; those who wait for another caller at once.
    pub fn void(&mut self, namespace: NamespaceId, key: &Key) -> Voided<W> {
        let mut voided = Voided { permits: 0, waiters: Vec::new() };
        let place = (namespace, key.clone());
        if let Some(flight) = self.take(&place) {
            self.void_flight(place, flight, &mut voided);
        }
        voided
    }

    /// [`void`](Self::void) for all keys of a namespace that `which` holds for.
    pub fn void_where(
        &mut self,
        namespace: NamespaceId,
        which: impl Fn(&Key) -> bool,
    ) -> Voided<W> {
        let mut voided = Voided { permits: 0, waiters: Vec::new() };
        let concerns = |(of, key): &&(NamespaceId, Key)| *of == namespace && which(key);
        let ended: Vec<_> = self.live.keys().filter(concerns).cloned().collect();
        for place in ended {
            if let Some(flight) = self.take(&place) {
                self.void_flight(place, flight, &mut voided);
            }
        }
        voided
    }

    /// Ends what has lapsed.
    pub fn lapse(&mut self, now: Timestamp, hold: Duration) -> Lapsed<W> {
        let due = self.ends.range(..=(now, PermitNumber(u64::MAX)));
        let due: Vec<(NamespaceId, Key)> = due.map(|(_, place)| place.clone()).collect();
        let (mut refills, mut turns) = (Vec::new(), Vec::new());
        for (namespace, key) in due {
            let place = (namespace, key.clone());
            match self.live.get(&place).map(|flight| &flight.held_by) {
                Some(HeldBy::Caller(_)) => turns.extend(self.next_turn(namespace, &key, now)),
                _ => {
                    if let Some(flight) = self.take(&place)
                        && !flight.line.is_empty()
                    {
                        let line = flight.line;
                        let place = (namespace, &key);
                        refills.push(self.start(place, HeldBy::Service, line, now, hold));
                    }
                }
            }
        }
        let ended = self.voided_ends.range(..=(now, PermitNumber(u64::MAX)));
        let ended: Vec<PermitNumber> = ended.map(|(_, number)| *number).collect();
        let forgotten = ended.into_iter().filter_map(|number| self.forget_voided(number));
        let dropped = forgotten.flat_map(Flight::into_waiters).collect();
        while self.voided_held.front().is_some_and(|number| !self.voided.contains_key(number)) {
            self.voided_held.pop_front();
        }
        Lapsed { refills, turns, dropped }
    }

    /// When [`lapse`](Self::lapse) has something to end next.
    pub fn next_moment(&self) -> Option<Timestamp> {
        let live = self.ends.keys().next();
        let voided = self.voided_ends.first();
        live.into_iter().chain(voided).map(|(at, _)| *at).min()
    }

    /// The live permits that are over by `now`, which [`lapse`](Self::lapse) will end.
    pub fn over(&self, now: Timestamp) -> impl Iterator<Item = PermitView> + use<'_, W> {
        let due = self.ends.range(..=(now, PermitNumber(u64::MAX)));
        due.filter_map(|(_, place)| Some(self.live.get(place)?.shown(place.0, &place.1)))
    }

    /// A permit of a key, live or voided; `None` when it is not remembered.
    pub fn view(
        &self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
    ) -> Option<PermitView> {
        let live = self.live.get(&(namespace, key.clone())).filter(|f| f.number == number);
        let voided = || {
            let (of, own, flight) = self.voided.get(&number)?;
            (*of == namespace && own == key).then_some(flight)
        };
        live.or_else(voided).map(|flight| flight.shown(namespace, key))
    }

    /// All live permits.
    pub fn views(&self) -> impl Iterator<Item = PermitView> + use<'_, W> {
        self.live.iter().map(|((namespace, key), flight)| flight.shown(*namespace, key))
    }

    /// The live permits of the namespaces that `which` holds for, oldest first, and at most `most` of
    /// them.
    pub fn oldest(&self, which: impl Fn(NamespaceId) -> bool, most: usize) -> Vec<PermitView> {
        // Only those that are shown are copied.
        let mut oldest = BinaryHeap::new();
        for (place, flight) in self.live.iter().filter(|(place, _)| which(place.0)) {
            oldest.push((flight.since, flight.number, place));
            if oldest.len() > most {
                oldest.pop();
            }
        }
        let oldest = oldest.into_sorted_vec().into_iter();
        oldest.filter_map(|(.., at)| Some(self.live.get(at)?.shown(at.0, &at.1))).collect()
    }

    /// How many permits are live.
    pub fn live(&self) -> usize {
        self.live.len()
    }

    /// How many callers wait, for live and for voided permits.
    pub fn waiters(&self) -> usize {
        let voided = self.voided.values().map(|(_, _, flight)| flight);
        self.live.values().chain(voided).map(|flight| flight.line.len()).sum()
    }
}
