//! Rows of a file in tables of their own, tried out, or put in the place of those that are there.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use sea_orm::{
    ConnectOptions, ConnectionTrait as _, Database, DatabaseConnection, TransactionTrait,
};
use sea_orm_migration::MigratorTrait as _;
use url::Url;

use super::row_file::{Piece, read};
use super::{RowsError, all, count_all, first, known_schemas, quoted, tables};
use crate::StoreError;
use crate::migration::Migrator;

/// What a file brought when it was tried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tried {
    /// Rows of each table.
    pub counts: BTreeMap<String, u64>,
    /// The names of the accounts.
    pub accounts: Vec<String>,
}

/// Tries a file out: its rows go into empty tables of the form `schema`, which are removed again. That
/// happens in the database of `check_url`, as its role, which must have no right elsewhere: not in
/// the database of `url` either.
///
/// # Errors
/// [`RowsError`], [`RowsError::NoCheckRole`] when there is no such role.
pub async fn try_out(
    url: &str,
    check_url: &str,
    file: &Path,
    schema: &str,
) -> Result<Tried, RowsError> {
    let apart = schema_of(url)?;
    let database = open(check_url, &apart).await.map_err(|error| match error {
        RowsError::Store(error) => RowsError::NoCheckRole(error.to_string()),
        other => other,
    })?;
    let tried = async {
        has_no_right_elsewhere(&database, url).await?;
        fill(&database, &apart, file, schema).await?;
        let counts = count_all(&database, &apart).await?;
        let mut accounts = Vec::new();
        if counts.contains_key("account") {
            let named = format!("select name as value from {apart}.account order by name");
            for row in all(&database, &named).await? {
                accounts.push(row.try_get("", "value").map_err(StoreError::from)?);
            }
        }
        Ok(Tried { counts, accounts })
    };
    let tried = tried.await;
    let _ = drop_schema(&database, &apart).await;
    let _ = database.close().await;
    tried
}

/// Puts the rows of a file in the place of those that are there, all or nothing. Numbers that never
/// go back, as of ids, do not go back for a house that stays the same. All sessions end.
///
/// # Errors
/// [`RowsError`]; the records are as they were then.
pub async fn restore(url: &str, file: &Path, schema: &str) -> Result<(), RowsError> {
    let apart = schema_of(url)?;
    let database = open(url, &apart).await?;
    let restored = async {
        fill(&database, &apart, file, schema).await?;
        let change = database.begin().await.map_err(StoreError::from)?;
        change.execute_unprepared(BEFORE).await.map_err(StoreError::from)?;
        let moved = format!(
            "do $$ declare one record; begin
               for one in select tablename from pg_catalog.pg_tables where schemaname = '{apart}' loop
                 execute format('alter table {apart}.%I set schema public', one.tablename);
               end loop;
             end $$;
             drop schema {apart} cascade;"
        );
        change.execute_unprepared(&moved).await.map_err(StoreError::from)?;
        change.execute_unprepared(AFTER).await.map_err(StoreError::from)?;
        change.commit().await.map_err(StoreError::from)?;
        Ok(())
    };
    let restored: Result<(), RowsError> = restored.await;
    if restored.is_err() {
        let _ = drop_schema(&database, &apart).await;
    }
    let _ = database.close().await;
    restored
}

/// Takes away the tables that are there, and keeps what must not go back.
const BEFORE: &str = "
set local client_min_messages = warning;
create temporary table counter_before (name text, value bigint) on commit drop;
create temporary table udn_before (value text) on commit drop;
do $$ declare one record; begin
  if to_regclass('public.counter') is not null and to_regclass('public.setting') is not null then
    insert into pg_temp.counter_before select name, value from public.counter;
    insert into pg_temp.udn_before select value from public.setting where name = 'udn';
  end if;
  for one in select tablename from pg_catalog.pg_tables where schemaname = 'public' loop
    execute format('drop table public.%I cascade', one.tablename);
  end loop;
end $$;
";

const AFTER: &str = "
update public.counter c set value = greatest(c.value, b.value)
  from pg_temp.counter_before b
  where b.name = c.name and exists (select from pg_temp.udn_before u
    join public.setting s on s.name = 'udn' and s.value = u.value);
";

/// The schema in which the rows of a file are put at first: one for each database that is restored,
/// so that several houses can try files out in one place.
fn schema_of(url: &str) -> Result<String, RowsError> {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
    let name: String = database_of(url)?.chars().take(40).map(plain).collect();
    Ok(format!("restoring_{name}"))
}

fn database_of(url: &str) -> Result<String, RowsError> {
    let unread = || RowsError::NoCheckRole("the database's URL cannot be read".into());
    let url = Url::parse(url).map_err(|_| unread())?;
    let name = url.path().trim_start_matches('/');
    let name = percent_encoding::percent_decode_str(name).decode_utf8().map_err(|_| unread())?;
    if name.is_empty() { Err(unread()) } else { Ok(name.into_owned()) }
}

/// Connects, with an empty schema in which everything happens.
async fn open(url: &str, apart: &str) -> Result<DatabaseConnection, RowsError> {
    if url.is_empty() {
        return Err(RowsError::NoCheckRole("check_database_url is empty".into()));
    }
    let mut options = ConnectOptions::new(url);
    options
        .max_connections(2)
        .connect_timeout(Duration::from_secs(10))
        .acquire_timeout(Duration::from_secs(10))
        .sqlx_logging(false)
        .set_schema_search_path(apart);
    let database = Database::connect(options).await?;
    drop_schema(&database, apart).await?;
    database.execute_unprepared(&format!("create schema {apart}")).await?;
    Ok(database)
}

async fn drop_schema(database: &DatabaseConnection, apart: &str) -> Result<(), StoreError> {
    let quiet = "set client_min_messages = warning";
    let drop = format!("{quiet}; drop schema if exists {apart} cascade");
    database.execute_unprepared(&drop).await?;
    Ok(())
}

/// Whether the role of a connection can do nothing but what happens in its own database.
async fn has_no_right_elsewhere(database: &DatabaseConnection, url: &str) -> Result<(), RowsError> {
    let house = database_of(url)?.replace('\'', "''");
    let asked = format!(
        "select concat_ws(', ', \
           case when current_database() = '{house}' then 'it uses the house''s own database' end, \
           case when r.rolsuper or r.rolcreaterole or r.rolcreatedb or r.rolreplication \
             or r.rolbypassrls then 'it may do more than log in' end, \
           case when exists (select from pg_catalog.pg_auth_members m where m.member = r.oid) \
             then 'it has the rights of another role' end, \
           case when exists (select from pg_catalog.pg_database d where d.datname = '{house}' \
             and has_database_privilege(d.oid, 'connect')) \
             then 'it may connect to the house''s own database' end) as value \
         from pg_catalog.pg_roles r where r.rolname = current_user"
    );
    match first(database, &asked).await?.as_str() {
        "" => Ok(()),
        why => Err(RowsError::NoCheckRole(why.to_owned())),
    }
}

/// Makes the tables of a form, and takes the rows of a file into them.
async fn fill(
    database: &DatabaseConnection,
    apart: &str,
    file: &Path,
    schema: &str,
) -> Result<(), RowsError> {
    let known = known_schemas();
    let last = known.iter().position(|name| name == schema);
    let last = last.ok_or_else(|| RowsError::Unfit(format!("nobody knows the form {schema}")))?;
    let steps = u32::try_from(last + 1).unwrap_or(u32::MAX);
    Migrator::up(database, Some(steps)).await?;
    let made: BTreeMap<_, _> = tables(database, apart).await?.into_iter().collect();
    let mut taken: Vec<String> = Vec::new();
    let mut pieces = read(file);
    let mut connection = database.get_postgres_connection_pool().acquire().await?;
    let mut next = pieces.recv().await;
    loop {
        let (table, columns) = match next.transpose()? {
            Some(Piece::Table { table, columns }) => (table, columns),
            Some(Piece::End) => break,
            _ => return Err(RowsError::Unfit("it is cut off or damaged".into())),
        };
        let Some(of_ours) = made.get(&table).filter(|_| !taken.contains(&table)) else {
            return Err(RowsError::Unfit("it names a table that is none of ours".into()));
        };
        if columns.iter().any(|column| !of_ours.contains(column)) {
            return Err(RowsError::Unfit(format!("its table {table} has other columns than ours")));
        }
        // Both names are now ones that our migrations gave.
        let named = quoted(&columns);
        let statement = format!("copy {apart}.\"{table}\" ({named}) from stdin");
        let mut copy = connection.copy_in_raw(&statement).await?;
        next = loop {
            match pieces.recv().await {
                Some(Ok(Piece::Rows(rows))) => {
                    copy.send(rows).await?;
                }
                other => break other,
            }
        };
        copy.finish().await?;
        taken.push(table);
    }
    drop(connection);
    // Numbers that PostgreSQL gives go on behind the last.
    let go_on = format!(
        "do $$ declare one record; begin
           for one in select c.relname as t, a.attname as k,
               pg_get_serial_sequence('{apart}.' || c.relname, a.attname) as s
             from pg_catalog.pg_class c
             join pg_catalog.pg_namespace n on n.oid = c.relnamespace
             join pg_catalog.pg_attribute a on a.attrelid = c.oid
             where n.nspname = '{apart}' and c.relkind = 'r' and a.attnum > 0 and not a.attisdropped
           loop
             if one.s is not null then
               execute format('select setval(%L, coalesce(max(%I), 0) + 1, false) from {apart}.%I',
                 one.s, one.k, one.t);
             end if;
           end loop;
         end $$"
    );
    database.execute_unprepared(&go_on).await?;
    Ok(())
}
