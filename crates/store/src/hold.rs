//! One service at a time uses a database: it holds a lock for as long as its connection lives.

use sea_orm::sqlx::{self, PgConnection, Row as _};

use crate::{Records, StoreError};

/// The number of the lock, in each database of its own.
const LOCK: i64 = 0x6d6f_7374_7261;

/// That a service has the database for itself.
pub struct Hold {
    records: Records,
    who: String,
    connection: Option<PgConnection>,
}

impl Records {
    /// Takes the database for oneself; `who` is what another service is told, of which PostgreSQL
    /// keeps 63 bytes.
    ///
    /// # Errors
    /// [`StoreError::Held`] with who has it.
    pub async fn hold(&self, who: &str) -> Result<Hold, StoreError> {
        let mut hold = Hold { records: self.clone(), who: who.to_owned(), connection: None };
        hold.keep().await?;
        Ok(hold)
    }
}

impl Hold {
    /// Looks whether it is still held, and takes it again where PostgreSQL was away.
    ///
    /// # Errors
    /// [`StoreError::Held`] when another service has taken it meanwhile; [`StoreError::NotNow`] while
    /// PostgreSQL is not there, and then nobody can.
    pub async fn keep(&mut self) -> Result<(), StoreError> {
        if let Some(connection) = &mut self.connection {
            if sqlx::query("select 1").execute(connection).await.is_ok() {
                return Ok(());
            }
            self.connection = None;
        }
        let pool = self.records.database.get_postgres_connection_pool();
        let mut connection = pool.acquire().await?.detach();
        let named = sqlx::query("select set_config('application_name', $1, false)").bind(&self.who);
        named.execute(&mut connection).await?;
        let taken = sqlx::query("select pg_try_advisory_lock($1)").bind(LOCK);
        let taken: bool = taken.fetch_one(&mut connection).await.and_then(|row| row.try_get(0))?;
        if !taken {
            return Err(StoreError::Held(holder(&mut connection).await?));
        }
        self.connection = Some(connection);
        Ok(())
    }
}

async fn holder(connection: &mut PgConnection) -> Result<String, sqlx::Error> {
    let statement = "select a.application_name, \
         to_char(a.backend_start at time zone 'utc', 'YYYY-MM-DD HH24:MI') \
         from pg_locks l join pg_stat_activity a on a.pid = l.pid \
         where l.locktype = 'advisory' and l.granted and l.objsubid = 1 \
         and (l.classid::bigint << 32 | l.objid::bigint) = $1 and l.database = \
         (select oid from pg_database where datname = current_database())";
    let row = sqlx::query(statement).bind(LOCK).fetch_optional(connection).await?;
    Ok(match row {
        Some(row) => {
            format!("{}, since {} UTC", row.try_get::<String, _>(0)?, row.try_get::<String, _>(1)?)
        }
        None => "somebody who has just gone".into(),
    })
}
