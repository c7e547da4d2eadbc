//! The slow reads: the data of each tenant's pages, as SQL over the whole network's history.

use diesel::deserialize::QueryableByName;
use diesel::sql_types::{BigInt, Double, Integer, Nullable, Text};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde::Serialize;

/// One line of a departure board.
#[derive(Debug, Clone, PartialEq, Serialize, QueryableByName)]
pub struct Departure {
    /// When it departs, in the network's time.
    #[diesel(sql_type = Text)]
    pub departs: String,
    /// The line's code.
    #[diesel(sql_type = Text)]
    pub line: String,
    /// Where to.
    #[diesel(sql_type = Text)]
    pub to: String,
    /// The vessel.
    #[diesel(sql_type = Text)]
    pub vessel: String,
    /// Places on board.
    #[diesel(sql_type = Integer)]
    pub places: i32,
    /// The share of this line's sailings in the last 28 days that left within five minutes.
    #[diesel(sql_type = Nullable<Double>)]
    pub on_time: Option<f64>,
    /// How late this line usually is, in minutes.
    #[diesel(sql_type = Nullable<Double>)]
    pub usual_delay_minutes: Option<f64>,
}

/// The next twelve departures of a harbor, with each line's punctuality over the whole network's
/// last 28 days, which makes the read slow.
///
/// # Errors
/// Errors of Diesel.
pub async fn departure_board(
    connection: &mut AsyncMysqlConnection,
    harbor: &str,
) -> Result<Vec<Departure>, diesel::result::Error> {
    diesel::sql_query(
        "WITH punctuality AS ( \
           SELECT line_id, AVG(delay_minutes <= 5) AS on_time, AVG(delay_minutes) AS usual \
           FROM sailings \
           WHERE departs_at >= UTC_TIMESTAMP() - INTERVAL 28 DAY AND departs_at < UTC_TIMESTAMP() \
           GROUP BY line_id) \
         SELECT DATE_FORMAT(s.departs_at, '%Y-%m-%d %H:%i') AS departs, l.code AS line, \
                t.name AS `to`, v.name AS vessel, CAST(v.places AS SIGNED INTEGER) AS places, \
                CAST(ROUND(p.on_time, 3) AS DOUBLE) AS on_time, \
                CAST(ROUND(p.usual, 1) AS DOUBLE) AS usual_delay_minutes \
         FROM sailings s \
         JOIN harbors h ON h.id = s.from_harbor AND h.slug = ? \
         JOIN harbors t ON t.id = s.to_harbor \
         JOIN ferry_lines l ON l.id = s.line_id \
         JOIN vessels v ON v.id = s.vessel_id \
         LEFT JOIN punctuality p ON p.line_id = s.line_id \
         WHERE s.departs_at >= UTC_TIMESTAMP() \
         ORDER BY s.departs_at, s.id LIMIT 12",
    )
    .bind::<Text, _>(harbor)
    .load(connection)
    .await
}

/// The price of a crossing, from how full its boats usually are.
#[derive(Debug, Clone, PartialEq, Serialize, QueryableByName)]
pub struct Fare {
    /// How many sailings the fare is made from.
    #[diesel(sql_type = BigInt)]
    pub sailings: i64,
    /// How full they were, 0 to 1.
    #[diesel(sql_type = Nullable<Double>)]
    pub occupancy: Option<f64>,
    /// The fare in crowns.
    #[diesel(sql_type = Nullable<Double>)]
    pub crowns: Option<f64>,
}

/// The fare from one harbor to another.
///
/// # Errors
/// Errors of Diesel.
pub async fn fare(
    connection: &mut AsyncMysqlConnection,
    from: &str,
    to: &str,
) -> Result<Fare, diesel::result::Error> {
    diesel::sql_query(
        "SELECT COUNT(*) AS sailings, \
                CAST(ROUND(AVG(s.passengers / v.places), 3) AS DOUBLE) AS occupancy, \
                CAST(ROUND(4 + 9 * AVG(s.passengers / v.places) \
                  + 0.35 * MIN(ABS(CAST(h.id AS SIGNED) - CAST(t.id AS SIGNED))), 2) AS DOUBLE) AS crowns \
         FROM sailings s \
         JOIN vessels v ON v.id = s.vessel_id \
         JOIN harbors h ON h.id = s.from_harbor \
         JOIN harbors t ON t.id = s.to_harbor \
         WHERE h.slug = ? AND t.slug = ?",
    )
    .bind::<Text, _>(from)
    .bind::<Text, _>(to)
    .get_result(connection)
    .await
}

/// One day of a tide table.
#[derive(Debug, Clone, PartialEq, Serialize, QueryableByName)]
pub struct TideDay {
    /// The day.
    #[diesel(sql_type = Text)]
    pub day: String,
    /// The highest level, in centimeters.
    #[diesel(sql_type = Integer)]
    pub high_cm: i32,
    /// The lowest level, in centimeters.
    #[diesel(sql_type = Integer)]
    pub low_cm: i32,
    /// The day's mean relative to that of all gauges, in centimeters.
    #[diesel(sql_type = Double)]
    pub above_network_cm: f64,
}

/// The tide table of a gauge for the coming week, compared with the whole network's.
///
/// # Errors
/// Errors of Diesel.
pub async fn tide_table(
    connection: &mut AsyncMysqlConnection,
    gauge: &str,
) -> Result<Vec<TideDay>, diesel::result::Error> {
    diesel::sql_query(
        "WITH network AS (SELECT AVG(level_cm) AS mean FROM readings) \
         SELECT DATE_FORMAT(r.read_at, '%Y-%m-%d') AS day, \
                CAST(MAX(r.level_cm) AS SIGNED INTEGER) AS high_cm, \
                CAST(MIN(r.level_cm) AS SIGNED INTEGER) AS low_cm, \
                CAST(ROUND(AVG(r.level_cm) - MAX(network.mean), 1) AS DOUBLE) AS above_network_cm \
         FROM readings r JOIN gauges g ON g.id = r.gauge_id AND g.slug = ? CROSS JOIN network \
         WHERE r.read_at >= UTC_DATE() AND r.read_at < UTC_DATE() + INTERVAL 7 DAY \
         GROUP BY day ORDER BY day",
    )
    .bind::<Text, _>(gauge)
    .load(connection)
    .await
}

/// A berth and the boat that is due at it.
#[derive(Debug, Clone, PartialEq, Serialize, QueryableByName)]
pub struct BerthUse {
    /// The berth's number within the harbor.
    #[diesel(sql_type = Integer)]
    pub berth: i32,
    /// Its length.
    #[diesel(sql_type = Integer)]
    pub metres: i32,
    /// Boats that used it in the last 60 days.
    #[diesel(sql_type = BigInt)]
    pub calls: i64,
}

/// The berths of a harbor with how much each was used.
///
/// # Errors
/// Errors of Diesel.
pub async fn berths(
    connection: &mut AsyncMysqlConnection,
    harbor: &str,
) -> Result<Vec<BerthUse>, diesel::result::Error> {
    diesel::sql_query(
        "SELECT CAST(b.number AS SIGNED INTEGER) AS berth, \
                CAST(b.metres AS SIGNED INTEGER) AS metres, COUNT(s.id) AS calls \
         FROM berths b \
         JOIN harbors h ON h.id = b.harbor_id AND h.slug = ? \
         LEFT JOIN sailings s ON s.to_harbor = h.id AND s.vessel_id % 4 + 1 = b.number \
           AND s.departs_at < UTC_TIMESTAMP() \
         GROUP BY b.id, b.number, b.metres ORDER BY b.number",
    )
    .bind::<Text, _>(harbor)
    .load(connection)
    .await
}

/// A notice of a harbor.
#[derive(Debug, Clone, PartialEq, Serialize, QueryableByName)]
pub struct Notice {
    /// The text.
    #[diesel(sql_type = Text)]
    pub notice: String,
}

/// The notice of a harbor, if there is one.
///
/// # Errors
/// Errors of Diesel.
pub async fn notice(
    connection: &mut AsyncMysqlConnection,
    harbor: &str,
) -> Result<Vec<Notice>, diesel::result::Error> {
    diesel::sql_query("SELECT notice FROM notices WHERE harbor = ?")
        .bind::<Text, _>(harbor)
        .load(connection)
        .await
}

/// Replaces or removes the notice of a harbor.
///
/// # Errors
/// Errors of Diesel.
pub async fn put_notice(
    connection: &mut AsyncMysqlConnection,
    harbor: &str,
    notice: Option<&str>,
) -> Result<(), diesel::result::Error> {
    let query = match notice {
        Some(_) => diesel::sql_query("REPLACE INTO notices (harbor, notice) VALUES (?, ?)"),
        None => diesel::sql_query("DELETE FROM notices WHERE harbor = ? AND ? IS NULL"),
    };
    let query = query.bind::<Text, _>(harbor).bind::<Nullable<Text>, _>(notice);
    query.execute(connection).await.map(drop)
}

/// The latest reading of a gauge, as the query of an origin.
pub const LATEST_READING: &str = "SELECT g.slug AS gauge, h.name AS harbor, r.read_at, r.level_cm
FROM readings r
JOIN gauges g ON g.id = r.gauge_id
JOIN harbors h ON h.id = g.harbor_id
WHERE g.slug = :gauge AND r.read_at <= UTC_TIMESTAMP()
ORDER BY r.read_at DESC LIMIT 1";
