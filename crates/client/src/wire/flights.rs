//! Refills under way in this process: of all callers that need one key at a time, one sees to it,
//! and the others have what it brings.
//!
//! Whoever asks after an invalidation must not get what was read before it. A value that was stored
//! with a permit is safe for everybody who came before it was sent to be stored, since an
//! invalidation that they know of would have voided the permit: then the flight is closed, and
//! later callers ask for themselves. Any other value is for those alone who came before it was
//! begun to be fetched.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use tokio::sync::watch;

/// How a flight ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Landed {
    /// With the value, as JSON.
    Value(Bytes),
    /// With the knowledge that there is none.
    NoValue,
    /// With nothing: somebody else is to see to it.
    Nothing,
}

/// What is told of a flight.
#[derive(Debug, Default)]
struct Flight {
    /// Whether the value is being fetched.
    began: bool,
    landed: Option<(Landed, Safe)>,
}

/// For whom a value is good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Safe {
    /// For everybody who came before the flight was closed.
    All,
    /// For those who came before it was begun to be fetched.
    Early,
}

type Told = watch::Receiver<Flight>;

/// The flights, by key.
#[derive(Debug, Default, Clone)]
pub(super) struct Flights(Arc<Mutex<HashMap<String, Told>>>);

/// What a caller has to do.
pub(super) enum Joined {
    /// To see to the value.
    Lead(Lead),
    /// To wait for it.
    Follow(Follow),
}

/// A caller that sees to a value for all others. If it is dropped, they are told that it brought
/// nothing.
#[derive(Debug)]
pub(super) struct Lead {
    flights: Flights,
    key: String,
    tell: watch::Sender<Flight>,
}

/// A caller that waits for another one's value.
#[derive(Debug)]
pub(super) struct Follow {
    told: Told,
    early: bool,
}

impl Flights {
    fn flights(&self) -> MutexGuard<'_, HashMap<String, Told>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Joins the flight for a key, or begins one.
    pub(super) fn join(&self, key: &str) -> Joined {
        let mut flights = self.flights();
        if let Some(told) = flights.get(key) {
            let early = !told.borrow().began;
            return Joined::Follow(Follow { told: told.clone(), early });
        }
        let (tell, told) = watch::channel(Flight::default());
        flights.insert(key.to_owned(), told);
        Joined::Lead(Lead { flights: self.clone(), key: key.to_owned(), tell })
    }
}

impl Lead {
    /// The value is begun to be fetched.
    pub(super) fn begin(&self) {
        self.tell.send_modify(|flight| flight.began = true);
    }

    /// Lets nobody else join: whoever comes from now on begins another flight.
    pub(super) fn close(&self) {
        let mut flights = self.flights.flights();
        // The key may have another flight by now.
        if flights.get(&self.key).is_some_and(|told| told.same_channel(&self.tell.subscribe())) {
            flights.remove(&self.key);
        }
    }

    /// Ends the flight: whoever comes from now on begins another.
    pub(super) fn land(self, landed: Landed, safe: Safe) {
        self.close();
        self.tell.send_modify(|flight| flight.landed = Some((landed, safe)));
    }
}

impl Drop for Lead {
    fn drop(&mut self) {
        self.close();
        // Whoever follows was told before, or is now.
        self.tell.send_modify(|flight| {
            flight.landed.get_or_insert((Landed::Nothing, Safe::All));
        });
    }
}

impl Follow {
    /// Waits for the flight's end.
    pub(super) async fn landed(mut self) -> Landed {
        let flight = self.told.wait_for(|flight| flight.landed.is_some()).await;
        match flight.ok().and_then(|flight| flight.landed.clone()) {
            Some((landed, safe)) if self.early || safe == Safe::All => landed,
            _ => Landed::Nothing,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lead(flights: &Flights, key: &str) -> Lead {
        match flights.join(key) {
            Joined::Lead(lead) => lead,
            Joined::Follow(_) => panic!("somebody leads already"),
        }
    }

    fn follow(flights: &Flights, key: &str) -> Follow {
        match flights.join(key) {
            Joined::Follow(follow) => follow,
            Joined::Lead(_) => panic!("nobody leads"),
        }
    }

    #[tokio::test]
    async fn one_leads_and_all_others_have_what_it_brings() {
        let flights = Flights::default();
        let leading = lead(&flights, "k");
        let mut following: Vec<Follow> = (0..100).map(|_| follow(&flights, "k")).collect();
        let _other = lead(&flights, "another");
        leading.begin();
        following.push(follow(&flights, "k"));
        leading.land(Landed::Value(Bytes::from_static(b"7")), Safe::All);
        for follow in following {
            assert_eq!(follow.landed().await, Landed::Value(Bytes::from_static(b"7")));
        }
        // It is over: the next caller leads.
        let again = lead(&flights, "k");
        let follow = follow(&flights, "k");
        drop(again);
        assert_eq!(follow.landed().await, Landed::Nothing, "it was given up");
        // Once it is closed, others begin their own, whose end is not that of the first.
        let leading = lead(&flights, "k");
        leading.begin();
        let before = self::follow(&flights, "k");
        leading.close();
        let next = lead(&flights, "k");
        leading.land(Landed::Value(Bytes::from_static(b"8")), Safe::All);
        let after = self::follow(&flights, "k");
        next.land(Landed::NoValue, Safe::All);
        assert_eq!(before.landed().await, Landed::Value(Bytes::from_static(b"8")));
        assert_eq!(after.landed().await, Landed::NoValue);
        // What was not stored with a permit is for those who came before it was fetched.
        let leading = lead(&flights, "k");
        let early = self::follow(&flights, "k");
        leading.begin();
        let late = self::follow(&flights, "k");
        leading.land(Landed::NoValue, Safe::Early);
        assert_eq!((early.landed().await, late.landed().await), (Landed::NoValue, Landed::Nothing));
        drop(lead(&flights, "k"));
        drop(_other);
        assert!(flights.flights().is_empty());
    }
}
