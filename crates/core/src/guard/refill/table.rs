//! The table of active refills: permits, holders, and waiting callers.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::time::Duration;

use super::permit::{
    AcquireRefused, Expired, JoinOutcome, LivePermit, Permit, PermitHolder, PermitNumber,
    PermitView, RefillLimits, Refiller, Refused, RefusedReason, ReleaseOutcome, Voided, WaitTicket,
};
use crate::guard::lock::AccessId;
use crate::guard::share::Shares;
use crate::key::{Key, NamespaceId};
use crate::time::Timestamp;

/// How many voided permits are settled whenever a permit is granted: two for one, so that they
/// never outnumber the permits there were.
const SETTLED_EACH: usize = 2;

#[derive(Debug)]
struct Waiting<W> {
    waiter: W,
    /// The lease that the caller gets if it becomes the holder.
    lease: Duration,
    /// The caller; `None` for one that leaves refills to the service.
    caller: Option<Refiller>,
}

/// By ticket, which is the order of arrival.
type Queue<W> = BTreeMap<WaitTicket, Waiting<W>>;

/// A refill with a live or voided permit.
#[derive(Debug)]
struct ActiveRefill<W> {
    namespace: NamespaceId,
    key: Key,
    since: Timestamp,
    ends_at: Timestamp,
    held_by: PermitHolder,
    queue: Queue<W>,
    /// Whether its permit is void. It is kept until it expires: its holder must learn of it, and
    /// callers may still wait for the service's value.
    voided: bool,
}

impl<W> ActiveRefill<W> {
    fn live(&self, number: PermitNumber) -> LivePermit {
        LivePermit { number, since: self.since, ends_at: self.ends_at }
    }

    fn view(&self, number: PermitNumber) -> PermitView {
        PermitView {
            namespace: self.namespace,
            key: self.key.clone(),
            permit: self.live(number),
            held_by: self.held_by.clone(),
            waiting: self.queue.len(),
        }
    }

    fn is_of(&self, namespace: NamespaceId, key: &Key) -> bool {
        self.namespace == namespace && self.key == *key
    }

    fn is_of_caller(&self) -> bool {
        matches!(self.held_by, PermitHolder::Caller(_))
    }

    fn into_waiters(self) -> Vec<W> {
        self.queue.into_values().map(|waiting| waiting.waiter).collect()
    }
}

/// The permits of one namespace that are not known to be void.
#[derive(Debug, Default)]
struct OfNamespace {
    numbers: BTreeSet<PermitNumber>,
    /// Permits up to this number are void as well: an invalidation of the whole namespace records
    /// it here in constant time. They are settled bit by bit.
    void_through: Option<PermitNumber>,
    /// How many of them are void.
    stale: usize,
    /// The permits of callers for which others wait.
    waited_for: BTreeSet<PermitNumber>,
}

impl OfNamespace {
    fn is_stale(&self, number: PermitNumber) -> bool {
        Some(number) <= self.void_through
    }
}

/// All active refills; `W` represents a waiting caller.
#[derive(Debug)]
pub struct RefillTable<W> {
    refills: HashMap<PermitNumber, ActiveRefill<W>>,
    /// The permit of each key, void ones excepted.
    by_key: HashMap<(NamespaceId, Key), PermitNumber>,
    namespaces: HashMap<NamespaceId, OfNamespace>,
    /// How many of `by_key` are void.
    stale: usize,
    /// When each permit ends, live or void.
    ends: BTreeSet<(Timestamp, PermitNumber)>,
    /// The live permits that callers hold.
    held: Shares,
    /// Void permits of callers, oldest first, including some already forgotten.
    voided_held: VecDeque<PermitNumber>,
    last_number: u64,
    last_ticket: u64,
    limits: RefillLimits,
}

impl<W> RefillTable<W> {
    /// An empty table with some limits, whose permits are numbered from `first_number` on. Permits
    /// of callers outlive a restart of the service, so use a number that is unlikely to repeat,
    /// such as a random one.
    pub fn new(limits: RefillLimits, first_number: u64) -> Self {
        Self {
            refills: HashMap::new(),
            by_key: HashMap::new(),
            namespaces: HashMap::new(),
            stale: 0,
            ends: BTreeSet::new(),
            held: Shares::new(limits.permits),
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

    fn is_stale(&self, namespace: NamespaceId, number: PermitNumber) -> bool {
        self.namespaces.get(&namespace).is_some_and(|of| of.is_stale(number))
    }

    /// Whether a permit of the table is live.
    fn is_live(&self, number: PermitNumber, refill: &ActiveRefill<W>) -> bool {
        !refill.voided && !self.is_stale(refill.namespace, number)
    }

    /// The live permit of a key.
    fn live_number(&mut self, namespace: NamespaceId, key: &Key) -> Option<PermitNumber> {
        let number = *self.by_key.get(&(namespace, key.clone()))?;
        if self.is_stale(namespace, number) {
            self.set_void(number);
            return None;
        }
        Some(number)
    }

    fn live_refill(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
    ) -> Option<(PermitNumber, &mut ActiveRefill<W>)> {
        let number = self.live_number(namespace, key)?;
        Some((number, self.refills.get_mut(&number)?))
    }

    /// Removes a permit from the live ones; returns whether it was live.
    fn detach(&mut self, number: PermitNumber) -> bool {
        let Some(refill) = self.refills.get(&number).filter(|refill| !refill.voided) else {
            // Its key may have another one by now.
            return false;
        };
        let namespace = refill.namespace;
        let is_of_caller = refill.is_of_caller();
        self.by_key.remove(&(namespace, refill.key.clone()));
        let Some(of) = self.namespaces.get_mut(&namespace) else { return false };
        let live = !of.is_stale(number);
        of.numbers.remove(&number);
        of.waited_for.remove(&number);
        if !live {
            of.stale -= 1;
            self.stale -= 1;
        } else if is_of_caller {
            self.held.release(namespace);
        }
        if of.numbers.is_empty() {
            self.namespaces.remove(&namespace);
        }
        live
    }

    /// Removes a permit.
    fn take(&mut self, number: PermitNumber) -> Option<ActiveRefill<W>> {
        self.detach(number);
        self.forget(number)
    }

    fn forget(&mut self, number: PermitNumber) -> Option<ActiveRefill<W>> {
        let refill = self.refills.remove(&number)?;
        self.ends.remove(&(refill.ends_at, number));
        Some(refill)
    }

    /// Marks a permit as void. Returns the callers that wait for a caller's permit.
    fn set_void(&mut self, number: PermitNumber) -> Vec<W> {
        self.detach(number);
        let Some(refill) = self.refills.get_mut(&number) else { return Vec::new() };
        refill.voided = true;
        if !refill.is_of_caller() {
            return Vec::new();
        }
        let queue = std::mem::take(&mut refill.queue);
        // Their holders learn of it, as long as there are not too many of them.
        if self.voided_held.len() >= self.limits.voided
            && let Some(oldest) = self.voided_held.pop_front()
        {
            self.forget(oldest);
        }
        self.voided_held.push_back(number);
        queue.into_values().map(|waiting| waiting.waiter).collect()
    }

    /// Grants a permit for a key without a live one.
    fn start(
        &mut self,
        (namespace, key): (NamespaceId, &Key),
        held_by: PermitHolder,
        queue: Queue<W>,
        now: Timestamp,
        lease: Duration,
    ) -> Permit {
        self.last_number = self.last_number.wrapping_add(1);
        let (number, ends_at) = (PermitNumber(self.last_number), now + lease);
        let is_of_caller = matches!(held_by, PermitHolder::Caller(_));
        if is_of_caller {
            self.held.take(namespace);
        }
        let of = self.namespaces.entry(namespace).or_default();
        of.numbers.insert(number);
        if is_of_caller && !queue.is_empty() {
            of.waited_for.insert(number);
        }
        let stale: Vec<PermitNumber> =
            of.numbers.iter().copied().take(SETTLED_EACH).filter(|n| of.is_stale(*n)).collect();
        let (key, voided) = (key.clone(), false);
        self.by_key.insert((namespace, key.clone()), number);
        self.ends.insert((ends_at, number));
        let refill = ActiveRefill { namespace, key, since: now, ends_at, held_by, queue, voided };
        let permit = Permit { namespace, key: refill.key.clone(), number, ends_at };
        self.refills.insert(number, refill);
        // Nobody waits for them any more.
        stale.into_iter().for_each(|number| drop(self.set_void(number)));
        permit
    }

    /// Adds a caller that waits for a missing key; the first one starts a permit of the service,
    /// which expires after `lease`.
    pub fn join(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        waiter: W,
        now: Timestamp,
        lease: Duration,
    ) -> JoinOutcome<W> {
        let max_waiters = self.limits.waiters;
        let (ticket, waiting) = (self.ticket(), Waiting { waiter, lease, caller: None });
        let Some((number, refill)) = self.live_refill(namespace, key) else {
            let queue = Queue::from([(ticket, waiting)]);
            return JoinOutcome::Holder(self.start(
                (namespace, key),
                PermitHolder::Service,
                queue,
                now,
                lease,
            ));
        };
        if refill.queue.len() >= max_waiters {
            return JoinOutcome::Full(waiting.waiter);
        }
        refill.queue.insert(ticket, waiting);
        if now < refill.ends_at {
            self.note_waited_for(number);
            return JoinOutcome::Waiting(number);
        }
        // The holder's permit expired: the service takes over for all waiting callers.
        let queue = self.take(number).map(|refill| refill.queue).unwrap_or_default();
        JoinOutcome::Holder(self.start((namespace, key), PermitHolder::Service, queue, now, lease))
    }

    /// Notes whether callers wait for a permit of a caller.
    fn note_waited_for(&mut self, number: PermitNumber) {
        let Some(refill) = self.refills.get(&number) else { return };
        let Some(of) = self.namespaces.get_mut(&refill.namespace) else { return };
        if refill.is_of_caller() && !refill.queue.is_empty() {
            of.waited_for.insert(number);
        } else {
            of.waited_for.remove(&number);
        }
    }

    /// Grants a permit of the service to refresh an entry in the background; `None` when another
    /// permit for the key is live.
    pub fn begin(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        now: Timestamp,
        lease: Duration,
    ) -> Option<Permit> {
        let queue = match self.live_refill(namespace, key) {
            Some((_, refill)) if now < refill.ends_at => return None,
            Some((number, _)) => self.take(number).map(|refill| refill.queue).unwrap_or_default(),
            None => Queue::new(),
        };
        Some(self.start((namespace, key), PermitHolder::Service, queue, now, lease))
    }

    /// Acquires a permit for a caller that refills by itself. The caller may [wait](Self::wait) for
    /// a live one. Appends to `turns` the callers whose turn it is because an earlier permit
    /// expired.
    ///
    /// # Errors
    /// [`AcquireRefused`]: a live permit, or too many permits of callers.
    pub fn acquire(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        caller: &Refiller,
        now: Timestamp,
        lease: Duration,
        turns: &mut Vec<(Permit, W)>,
    ) -> Result<Permit, AcquireRefused> {
        if let Some((number, refill)) = self.live_refill(namespace, key)
            && refill.ends_at <= now
        {
            turns.extend(self.next_turn(number, now));
        }
        let live = self.live_refill(namespace, key).map(|(number, refill)| refill.live(number));
        match live {
            Some(live) => Err(AcquireRefused::Live(live)),
            None if !self.held.has_room(namespace) => Err(AcquireRefused::Full),
            None => {
                let (queue, held_by) = (Queue::new(), PermitHolder::Caller(caller.clone()));
                Ok(self.start((namespace, key), held_by, queue, now, lease))
            }
        }
    }

    /// Queues a caller for the live permit of a key; `lease` is the caller's lease if its turn
    /// comes.
    ///
    /// # Errors
    /// The waiter, when no permit is live or the queue is full.
    pub fn wait(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        caller: &Refiller,
        waiter: W,
        lease: Duration,
    ) -> Result<WaitTicket, W> {
        let (ticket, max_waiters) = (self.ticket(), self.limits.waiters);
        let live = self.live_refill(namespace, key);
        match live.filter(|(_, refill)| refill.queue.len() < max_waiters) {
            Some((number, refill)) => {
                let waiting = Waiting { waiter, lease, caller: Some(caller.clone()) };
                refill.queue.insert(ticket, waiting);
                self.note_waited_for(number);
                Ok(ticket)
            }
            None => Err(waiter),
        }
    }

    /// Removes a caller from the queue; returns whether it was there.
    pub fn leave(&mut self, namespace: NamespaceId, key: &Key, ticket: WaitTicket) -> bool {
        let Some((number, refill)) = self.live_refill(namespace, key) else { return false };
        let left = refill.queue.remove(&ticket).is_some();
        self.note_waited_for(number);
        left
    }

    /// Ends a live permit and grants the next one to the first in its queue, if any.
    fn next_turn(&mut self, number: PermitNumber, now: Timestamp) -> Option<(Permit, W)> {
        let mut refill = self.take(number)?;
        let (_, Waiting { waiter, lease, caller }) = refill.queue.pop_first()?;
        // A caller that leaves refills to the service passes its turn on immediately.
        let service = || Refiller { owner: "the service".into(), access: None };
        let held_by = PermitHolder::Caller(caller.unwrap_or_else(service));
        let place = (refill.namespace, &refill.key);
        let permit = self.start(place, held_by, refill.queue, now, lease);
        Some((permit, waiter))
    }

    /// A caller leaves its turn to the service and waits with the others.
    ///
    /// # Errors
    /// The waiter, when the permit is over.
    pub fn leave_to_service(&mut self, permit: &Permit, waiter: W) -> Result<(), W> {
        let ticket = self.ticket();
        let live = self.live_refill(permit.namespace, &permit.key);
        let Some((number, refill)) = live.filter(|(number, _)| *number == permit.number) else {
            return Err(waiter);
        };
        let held_by = std::mem::replace(&mut refill.held_by, PermitHolder::Service);
        // All callers that wait for the service are answered together, so the order does not
        // matter.
        refill.queue.insert(ticket, Waiting { waiter, lease: Duration::ZERO, caller: None });
        self.note_waited_for(number);
        if matches!(held_by, PermitHolder::Caller(_)) {
            self.held.release(permit.namespace);
        }
        Ok(())
    }

    /// Whether a permit of a key is remembered as void.
    fn is_void(&mut self, namespace: NamespaceId, key: &Key, number: PermitNumber) -> bool {
        if self.is_stale(namespace, number) {
            self.live_number(namespace, key);
        }
        // Only for its own key: a caller could send any number.
        let refill = self.refills.get(&number);
        refill.is_some_and(|refill| refill.voided && refill.is_of(namespace, key))
    }

    /// Finishes a permit, with a value or, for the service, with a failure; returns its waiters.
    /// `now` decides whether it was in time.
    ///
    /// # Errors
    /// [`Refused`] when the permit was voided or had expired: the value must not be stored.
    pub fn finish(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
        now: Timestamp,
    ) -> Result<Vec<W>, Refused<W>> {
        if self.is_void(namespace, key, number) {
            let waiters = self.forget(number).map(ActiveRefill::into_waiters).unwrap_or_default();
            return Err(Refused { reason: RefusedReason::Voided, waiters });
        }
        match self.live_refill(namespace, key) {
            // An expired permit of a caller passes on by time, not through its late holder.
            Some((live, refill)) if live == number => {
                let in_time = now < refill.ends_at;
                if !in_time && refill.is_of_caller() {
                    let (reason, waiters) = (RefusedReason::Expired, Vec::new());
                    return Err(Refused { reason, waiters });
                }
                let waiters = self.take(number).map(ActiveRefill::into_waiters).unwrap_or_default();
                if in_time {
                    Ok(waiters)
                } else {
                    Err(Refused { reason: RefusedReason::Expired, waiters })
                }
            }
            _ => Err(Refused { reason: RefusedReason::Expired, waiters: Vec::new() }),
        }
    }

    /// Releases a permit without a value. With `next` the first in the queue becomes the holder;
    /// without it, or with an empty queue, the refill fails for all waiting callers.
    ///
    /// # Errors
    /// Why the permit had already ended.
    pub fn release(
        &mut self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
        next: bool,
        now: Timestamp,
    ) -> Result<ReleaseOutcome<W>, RefusedReason> {
        if self.is_void(namespace, key, number) {
            // It is forgotten when it expires, with the callers that still wait for it.
            return Err(RefusedReason::Voided);
        }
        let live = self.live_refill(namespace, key);
        if !live.is_some_and(|(live, refill)| live == number && now < refill.ends_at) {
            return Err(RefusedReason::Expired);
        }
        if !next {
            let refill = self.take(number);
            return Ok(ReleaseOutcome::Failed(
                refill.map(ActiveRefill::into_waiters).unwrap_or_default(),
            ));
        }
        Ok(match self.next_turn(number, now) {
            Some((permit, waiter)) => ReleaseOutcome::Turn(permit, waiter),
            None => ReleaseOutcome::Failed(Vec::new()),
        })
    }

    /// Ends the permits and waits of a withdrawn access. Appends to `turns` the callers whose turn
    /// it is then. Callers that waited with that access are not notified; they must notice it.
    pub fn withdraw(&mut self, access: AccessId, now: Timestamp, turns: &mut Vec<(Permit, W)>) {
        let is_of = |caller: &Refiller| caller.access == Some(access);
        let (mut left, mut ended) = (Vec::new(), Vec::new());
        for (number, refill) in &mut self.refills {
            let before = refill.queue.len();
            refill.queue.retain(|_, waiting| !waiting.caller.as_ref().is_some_and(is_of));
            if refill.queue.len() < before {
                left.push(*number);
            }
            if matches!(&refill.held_by, PermitHolder::Caller(caller) if is_of(caller)) {
                ended.push(*number);
            }
        }
        left.into_iter().for_each(|number| self.note_waited_for(number));
        // In the order of their beginning, so that the order of turns is deterministic.
        ended.sort_unstable();
        for number in ended {
            if self.refills.get(&number).is_some_and(|refill| self.is_live(number, refill)) {
                turns.extend(self.next_turn(number, now));
            }
        }
    }

    /// Voids the live permit of a key that was invalidated or written. Later callers start a new
    /// refill. Callers that wait for the service are returned when it finishes or expires, since
    /// they asked before the invalidation; callers that wait for another caller are returned now.
    pub fn void(&mut self, namespace: NamespaceId, key: &Key) -> Voided<W> {
        match self.live_number(namespace, key) {
            Some(number) => Voided { permits: 1, waiters: self.set_void(number) },
            None => Voided { permits: 0, waiters: Vec::new() },
        }
    }

    /// [`void`](Self::void) for all keys of a namespace, in a time that depends only on the number
    /// of waiting callers.
    pub fn void_all(&mut self, namespace: NamespaceId) -> Voided<W> {
        let mut voided = Voided { permits: 0, waiters: Vec::new() };
        let Some(of) = self.namespaces.get_mut(&namespace) else { return voided };
        voided.permits = of.numbers.len() - of.stale;
        self.stale += voided.permits;
        of.stale = of.numbers.len();
        of.void_through = Some(PermitNumber(self.last_number));
        let waited_for = std::mem::take(&mut of.waited_for);
        self.held.give_back_all(namespace);
        for number in waited_for {
            let queue =
                self.refills.get_mut(&number).map(|refill| std::mem::take(&mut refill.queue));
            let waiting = queue.unwrap_or_default().into_values();
            voided.waiters.extend(waiting.map(|waiting| waiting.waiter));
        }
        voided
    }

    /// [`void`](Self::void) for the keys of a namespace that `which` selects.
    pub fn void_where(
        &mut self,
        namespace: NamespaceId,
        which: impl Fn(&Key) -> bool,
    ) -> Voided<W> {
        let mut voided = Voided { permits: 0, waiters: Vec::new() };
        let Some(of) = self.namespaces.get(&namespace) else { return voided };
        let concerned = |number: &&PermitNumber| {
            !of.is_stale(**number) && self.refills.get(number).is_some_and(|r| which(&r.key))
        };
        let concerned: Vec<PermitNumber> = of.numbers.iter().filter(concerned).copied().collect();
        for number in concerned {
            voided.permits += 1;
            voided.waiters.append(&mut self.set_void(number));
        }
        voided
    }

    fn due(&self, now: Timestamp) -> impl Iterator<Item = PermitNumber> + use<'_, W> {
        self.ends.range(..=(now, PermitNumber(u64::MAX))).map(|(_, number)| *number)
    }

    /// Ends expired permits.
    pub fn expire(&mut self, now: Timestamp, lease: Duration) -> Expired<W> {
        let due: Vec<PermitNumber> = self.due(now).collect();
        let mut expired = Expired { refills: Vec::new(), turns: Vec::new(), dropped: Vec::new() };
        for number in due {
            let Some(refill) = self.refills.get(&number) else { continue };
            let live = self.is_live(number, refill);
            if live && refill.is_of_caller() {
                expired.turns.extend(self.next_turn(number, now));
                continue;
            }
            let Some(refill) = self.take(number) else { continue };
            if !live {
                expired.dropped.extend(refill.into_waiters());
            } else if !refill.queue.is_empty() {
                let place = (refill.namespace, &refill.key);
                expired.refills.push(self.start(
                    place,
                    PermitHolder::Service,
                    refill.queue,
                    now,
                    lease,
                ));
            }
        }
        while self.voided_held.front().is_some_and(|number| !self.refills.contains_key(number)) {
            self.voided_held.pop_front();
        }
        expired
    }

    /// When the next permit expires.
    pub fn next_moment(&self) -> Option<Timestamp> {
        self.ends.first().map(|(at, _)| *at)
    }

    fn live_view(&self, number: PermitNumber) -> Option<PermitView> {
        let refill = self.refills.get(&number)?;
        self.is_live(number, refill).then(|| refill.view(number))
    }

    /// The live permits that have expired by `now`, which [`expire`](Self::expire) will end.
    pub fn over(&self, now: Timestamp) -> impl Iterator<Item = PermitView> + use<'_, W> {
        self.due(now).filter_map(|number| self.live_view(number))
    }

    /// A permit of a key, live or voided; `None` when it is unknown.
    pub fn view(
        &self,
        namespace: NamespaceId,
        key: &Key,
        number: PermitNumber,
    ) -> Option<PermitView> {
        let refill = self.refills.get(&number).filter(|refill| refill.is_of(namespace, key));
        refill.map(|refill| refill.view(number))
    }

    /// All live permits.
    pub fn views(&self) -> impl Iterator<Item = PermitView> + use<'_, W> {
        self.by_key.values().filter_map(|number| self.live_view(*number))
    }

    /// The live permits of the namespaces that `which` selects, oldest first, at most `most` of
    /// them.
    pub fn oldest(&self, which: impl Fn(NamespaceId) -> bool, most: usize) -> Vec<PermitView> {
        let of = self.namespaces.iter().filter(|(namespace, _)| which(**namespace));
        let oldest = of.flat_map(|(_, of)| {
            let stale = of.stale;
            of.numbers.iter().skip(stale).take(most).copied()
        });
        let mut oldest: Vec<PermitNumber> = oldest.collect();
        // A later one began later.
        oldest.sort_unstable();
        oldest.truncate(most);
        oldest.into_iter().filter_map(|number| self.live_view(number)).collect()
    }

    /// How many permits are live.
    pub fn live(&self) -> usize {
        self.by_key.len() - self.stale
    }

    /// How many callers wait for live and voided permits.
    pub fn waiters(&self) -> usize {
        self.refills.values().map(|refill| refill.queue.len()).sum()
    }
}
