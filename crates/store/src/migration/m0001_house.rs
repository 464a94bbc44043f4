//! The first tables.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0001_house"
    }
}

const TABLES: &str = "
create table setting (name text primary key, value text not null);
create table counter (name text primary key, value bigint not null);
create table folder (
    id bigint primary key,
    label text not null,
    root text not null unique,
    kinds text not null,
    container_id bigint not null,
    added_ms bigint not null,
    scanned_ms bigint
);
create table container (
    id bigint primary key,
    folder_id bigint not null references folder on delete cascade,
    parent_id bigint references container on delete cascade,
    name text not null,
    unique nulls not distinct (folder_id, parent_id, name)
);
create index container_parent on container (parent_id);
create table file (
    id bigint primary key,
    container_id bigint not null references container on delete cascade,
    name text not null,
    facts jsonb not null,
    unique (container_id, name)
);
create table left_out (
    id bigserial primary key,
    folder_id bigint not null references folder on delete cascade,
    path text not null,
    reason text not null
);
create index left_out_folder on left_out (folder_id);
create table device (
    id bigint primary key,
    address text not null,
    hardware text,
    name text,
    user_agent text,
    standing text not null,
    kinds text not null,
    folders jsonb,
    update_offset bigint not null,
    first_seen_ms bigint not null,
    last_seen_ms bigint not null
);
create table decision (
    id bigserial primary key,
    device_id bigint not null,
    at_ms bigint not null,
    who text not null,
    what text not null
);
create index decision_device on decision (device_id);
create table proof (
    device_id bigint not null references device on delete cascade,
    step text not null,
    at_ms bigint not null,
    what text not null,
    item text,
    bytes bigint,
    primary key (device_id, step)
);
create table account (name text primary key, password_hash text not null);
create table session (
    token_hash bytea primary key,
    account text not null references account on delete cascade,
    expires_ms bigint not null
);
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(TABLES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let tables = "session, account, proof, decision, device, left_out, file, container, folder, counter, setting";
        manager.get_connection().execute_unprepared(&format!("drop table {tables}")).await?;
        Ok(())
    }
}
