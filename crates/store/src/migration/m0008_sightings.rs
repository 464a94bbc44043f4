//! Devices that are reached by several ways; sightings, from which proof can be told again; and
//! codes in place of sentences for what proves a step and what was asked for in vain.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0008_sightings"
    }
}

const UP: &str = r#"
create table endpoint (
    id bigserial primary key,
    device_id bigint not null references device on delete cascade,
    hardware text,
    address text not null,
    last_seen_ms bigint not null
);
create index endpoint_device on endpoint (device_id);
insert into endpoint (device_id, hardware, address, last_seen_ms)
    select id, hardware, address, last_seen_ms from device;
alter table device drop column hardware, drop column address,
    add column udns jsonb not null default '[]';
create table sighting (
    id bigserial primary key,
    device_id bigint not null references device on delete cascade,
    contact text not null,
    first_ms bigint not null,
    last_ms bigint not null,
    times bigint not null,
    proves boolean not null,
    act text not null
);
create index sighting_device on sighting (device_id, id);
create index sighting_proves on sighting (id) where proves;
update device set denied = case denied
    when 'asked for the root menu' then 'root-menu'
    when 'asked for a menu' then 'menu'
    when 'asked for a menu it does not see' then 'hidden-menu'
    when 'asked for a file' then 'file'
    end;
update device set denied_ms = null where denied is null;
update proof set what = case
    when what like 'searched for %' then
        json_build_object('searched', substr(what, 14))::text
    when what = 'announced itself' then '"announced"'
    when what = 'connected to the device listener' then '"connected"'
    when what = 'took the description' then '"description"'
    when what = 'opened the root menu' then '"root-menu"'
    when what ~ '^listed [0-9]{1,9} items?$' then
        '{"items":' || substring(what from '[0-9]+') || '}'
    when what in ('started video', 'started music', 'started picture') then
        '{"played":"' || substr(what, 9) || '"}'
    when what = 'went to a later place and played on' then '"played-on"'
    else json_build_object('words', what)::text
    end;
"#;

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UP).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "alter table device add column hardware text, \
                    add column address text not null default '0.0.0.0', drop column udns; \
                    update device set (hardware, address) = \
                    (select hardware, address from endpoint where device_id = device.id \
                     order by last_seen_ms desc limit 1) \
                    where exists (select 1 from endpoint where device_id = device.id); \
                    drop table endpoint; drop table sighting";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
