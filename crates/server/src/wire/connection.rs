//! One connection, from its hello to its end: moves bytes between the peer and the session.

use std::pin::pin;
use std::sync::Arc;

use futures_util::future::BoxFuture;
use futures_util::stream::StreamExt;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite};
use verax_api::FailureKind;
use verax_control::Role;
use verax_control::access::Caller;
use verax_service::Service;
use verax_wire::{Frame, Reply};

use super::limits::WireLimits;
use super::outbox::{Encoded, Outbox};
use super::session::{Ended, Session, WRITE_AT};
use crate::admission::PAUSE;
use crate::connections::ConnectionSlot;
use crate::failure::Failure;

/// Why a connection without a token may be closed.
const NOT_AUTHENTICATED: &str =
    "closed in favor of another connection, because this one has not authenticated";

/// Waits until the service stops. A connection to an active node also ends when the node becomes a
/// standby, so that its client finds the next one.
async fn until_stop(service: Arc<Service>) {
    let (mut stopping, mut role) = (service.stopping(), service.control().watch_role());
    let began_active = *role.borrow_and_update() == Role::Active;
    tokio::select! {
        _ = stopping.wait_for(|stopping| *stopping) => {}
        _ = role.wait_for(|role| began_active && *role == Role::Standby) => {}
    }
}

/// The access of the caller that the connection has now.
struct Access {
    of: Option<Arc<Caller>>,
    /// Ready once it ends.
    end: BoxFuture<'static, ()>,
}

impl Access {
    fn none() -> Self {
        Self { of: None, end: Box::pin(std::future::pending()) }
    }

    fn follow(&mut self, caller: &Arc<Caller>) {
        if self.of.as_ref().is_none_or(|known| !Arc::ptr_eq(known, caller)) {
            let signal = caller.signal().clone();
            self.of = Some(Arc::clone(caller));
            self.end = Box::pin(async move { signal.ended().await });
        }
    }
}

pub(super) struct Connection<S> {
    stream: S,
    session: Session,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Connection<S> {
    pub(super) fn new(
        stream: S,
        service: Arc<Service>,
        limits: WireLimits,
        place: Arc<ConnectionSlot>,
    ) -> Self {
        Self { stream, session: Session::new(service, limits, place) }
    }

    /// Serves the connection until one side ends it.
    pub(super) async fn serve(mut self) -> Result<(), Ended> {
        match self.converse().await {
            // A protocol error is reported before the connection ends, so that it can be fixed.
            Err(Ended::Protocol(error)) => {
                self.session.fail(Frame::default(), &Failure::invalid(error));
                self.session.outbox.write(&mut self.stream).await?;
                Err(Ended::Protocol(error))
            }
            Err(Ended::Refused(why)) => {
                self.session.outbox.write(&mut self.stream).await?;
                Err(Ended::Refused(why))
            }
            other => other,
        }
    }

    async fn converse(&mut self) -> Result<(), Ended> {
        let mut stop = pin!(until_stop(Arc::clone(&self.session.service)));
        let mut stop_told = false;
        let mut silence = pin!(tokio::time::sleep(self.session.limits.hello));
        let (mut heard, mut paused) = (false, false);
        let mut resume = pin!(tokio::time::sleep(PAUSE));
        let place = Arc::clone(&self.session.place);
        let mut closed = pin!(place.closed());
        let mut access = Access::none();
        loop {
            // Complete requests may be left, which no further read announces.
            if self.take_turn().await? {
                continue;
            }
            if self.session.ending && self.session.waiting.is_empty() {
                return Ok(());
            }
            if let Some(peer) = &self.session.peer {
                access.follow(&peer.caller);
            }
            if std::mem::take(&mut self.session.pauses) {
                paused = true;
                resume.as_mut().reset(tokio::time::Instant::now() + PAUSE);
            }
            let full = paused || self.session.waiting.len() >= self.session.limits.in_flight;
            if !full && !self.session.ending {
                self.session.expect_more();
                if !self.session.outbox.is_empty() {
                    continue;
                }
            }
            // The most likely event first.
            tokio::select! {
                biased;
                read = self.stream.read_buf(&mut self.session.received), if !full && !self.session.ending => {
                    if read? == 0 {
                        return Ok(());
                    }
                    heard = true;
                }
                Some(done) = self.session.waiting.join_next(), if !self.session.waiting.is_empty() => {
                    self.add_answered(done.unwrap_or_default());
                }
                Some(notice) = self.session.watches.next(), if !self.session.watches.is_empty() => self.session.push(notice)?,
                () = &mut access.end => self.session.check_peer()?,
                () = self.session.arrival.overdue(), if !full && !self.session.ending => {
                    return Err(self.refused(FailureKind::Invalid, "a request took too long to arrive"));
                }
                () = &mut closed => {
                    return Err(self.refused(FailureKind::Overloaded, NOT_AUTHENTICATED));
                }
                () = &mut stop, if !stop_told => {
                    stop_told = true;
                    self.session.ending = true;
                    self.session.outbox.add(Frame::default(), &Reply::Goodbye);
                }
                () = &mut resume, if paused => paused = false,
                () = &mut silence => {
                    if self.session.peer.is_none() || !heard {
                        return Err(Ended::Idle);
                    }
                    heard = false;
                    silence.as_mut().reset(tokio::time::Instant::now() + self.session.limits.idle);
                }
            }
        }
    }

    /// Adds the replies of requests that waited, the first of which is `done`.
    fn add_answered(&mut self, done: Encoded) {
        self.session.outbox.add_encoded(done);
        while self.session.outbox.len() < WRITE_AT
            && let Some(done) = self.session.waiting.try_join_next()
        {
            self.session.outbox.add_encoded(done.unwrap_or_default());
        }
    }

    /// Tells the client why its connection ends.
    fn refused(&mut self, kind: FailureKind, why: &str) -> Ended {
        self.session.fail(Frame::default(), &Failure::new(kind, why));
        Ended::Refused(why.to_owned())
    }

    /// Handles received requests for one turn, and writes the replies; returns whether complete
    /// requests are left.
    async fn take_turn(&mut self) -> Result<bool, Ended> {
        let mut turn = match &self.session.turns {
            Some(turns) if !self.session.received.is_empty() => turns.take().await,
            _ => None,
        };
        let more = self.session.answer_received()?;
        if !self.session.outbox.is_empty() {
            let mut writing = pin!(self.session.outbox.write(&mut self.stream));
            let written = tokio::select! {
                biased;
                written = &mut writing => Some(written),
                () = tokio::task::yield_now() => None,
            };
            match written {
                Some(written) => written?,
                None => {
                    // No other peer waits for one that reads its replies slowly.
                    turn = None;
                    writing.await?;
                }
            }
        }
        if more || turn.is_some() {
            // Yield, so that other connections that became ready have their turn.
            tokio::task::yield_now().await;
        }
        drop(turn);
        Ok(more)
    }
}

/// Refuses the coming hello, and ends.
pub(super) async fn refuse(mut stream: impl AsyncWrite + Unpin, why: &str) -> Result<(), Ended> {
    let mut outbox = Outbox::default();
    outbox.add(Frame::default(), &Failure::new(FailureKind::Overloaded, why).reply());
    outbox.write(&mut stream).await?;
    Err(Ended::Refused(why.to_owned()))
}
