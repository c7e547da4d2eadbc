//! The slots of schedules that were taken. A slot has one row, so it is taken once.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use verax_core::Timestamp;

use crate::error::RecordsError;
use crate::mariadb::changes::locked_revision;
use crate::mariadb::connection::MariaDb;
use crate::mariadb::schema::schedule_slots;
use crate::model::{SlotRecord, SlotState, short};

type Row = (u64, u64, u64, String, Option<u64>, bool, String);

fn read(row: Row) -> Result<SlotRecord, RecordsError> {
    let (schedule, slot, taken_at, state, run, by_hand, note) = row;
    Ok(SlotRecord {
        schedule,
        slot: Timestamp::from_millis(slot),
        taken_at: Timestamp::from_millis(taken_at),
        state: SlotState::read(&state)?,
        run,
        by_hand,
        note,
    })
}

impl MariaDb {
    /// Takes a slot; `false` if it was taken before.
    pub(crate) async fn take_slot(&self, slot: &SlotRecord) -> Result<bool, RecordsError> {
        self.exchange(async |connection| {
            connection
                .transaction(async |connection| {
                    locked_revision(connection).await?;
                    self.check_owner(connection).await?;
                    let row = (
                        schedule_slots::schedule_id.eq(slot.schedule),
                        schedule_slots::slot.eq(slot.slot.as_millis()),
                        schedule_slots::taken_at.eq(slot.taken_at.as_millis()),
                        schedule_slots::state.eq(slot.state.name()),
                        schedule_slots::run_id.eq(slot.run),
                        schedule_slots::by_hand.eq(slot.by_hand),
                        schedule_slots::note.eq(short(&slot.note)),
                    );
                    let taken = diesel::insert_or_ignore_into(schedule_slots::table)
                        .values(row)
                        .execute(connection)
                        .await?;
                    Ok(taken > 0)
                })
                .await
        })
        .await
    }

    /// Says what became of a slot.
    pub(crate) async fn end_slot(&self, slot: &SlotRecord) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let row = schedule_slots::table.find((slot.schedule, slot.slot.as_millis()));
            let columns = (
                schedule_slots::state.eq(slot.state.name()),
                schedule_slots::run_id.eq(slot.run),
                schedule_slots::note.eq(short(&slot.note)),
            );
            diesel::update(row).set(columns).execute(connection).await?;
            Ok(())
        })
        .await
    }

    /// The latest slot of each schedule that was taken.
    pub(crate) async fn latest_slots(&self) -> Result<Vec<(u64, Timestamp)>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<(u64, Option<u64>)> = schedule_slots::table
                .filter(schedule_slots::by_hand.eq(false))
                .group_by(schedule_slots::schedule_id)
                .select((schedule_slots::schedule_id, diesel::dsl::max(schedule_slots::slot)))
                .load(connection)
                .await?;
            let latest = |(schedule, slot): (u64, Option<u64>)| {
                Some((schedule, Timestamp::from_millis(slot?)))
            };
            Ok(rows.into_iter().filter_map(latest).collect())
        })
        .await
    }

    /// The slots that were taken by a process that did not say what became of them.
    pub(crate) async fn open_slots(&self) -> Result<Vec<SlotRecord>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<Row> = schedule_slots::table
                .filter(schedule_slots::state.eq(SlotState::Taken.name()))
                .order((schedule_slots::slot, schedule_slots::schedule_id))
                .load(connection)
                .await?;
            rows.into_iter().map(read).collect()
        })
        .await
    }

    /// The latest slots of a schedule, newest first.
    pub(crate) async fn slots(
        &self,
        schedule: u64,
        most: u32,
    ) -> Result<Vec<SlotRecord>, RecordsError> {
        self.exchange(async |connection| {
            let rows: Vec<Row> = schedule_slots::table
                .filter(schedule_slots::schedule_id.eq(schedule))
                .order(schedule_slots::slot.desc())
                .limit(most.into())
                .load(connection)
                .await?;
            rows.into_iter().map(read).collect()
        })
        .await
    }

    /// Removes slots older than `before`.
    pub(crate) async fn prune_slots(&self, before: Timestamp) -> Result<(), RecordsError> {
        self.exchange(async |connection| {
            let old = schedule_slots::table.filter(schedule_slots::slot.lt(before.as_millis()));
            diesel::delete(old).execute(connection).await?;
            Ok(())
        })
        .await
    }
}
