//! Playlists, scan reports, sub-folders left out, positions and seen marks.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0002_content"
    }
}

// A file or directory that moves may take the name that another of the same batch gives up,
// so names are unique only once a batch is done, which the scan sees to.
const CHANGES: &str = "
alter table container drop constraint container_folder_id_parent_id_name_key;
alter table file drop constraint file_container_id_name_key;
create index container_folder on container (folder_id);
create index file_container on file (container_id);
alter table folder add column excluded jsonb not null default '[]';
create table playlist (
    id bigint primary key,
    container_id bigint not null references container on delete cascade,
    name text not null,
    stamp_ms bigint not null,
    entries jsonb not null
);
create index playlist_container on playlist (container_id);
create table scan_report (
    id bigserial primary key,
    folder_id bigint not null references folder on delete cascade,
    began_ms bigint not null,
    ended_ms bigint not null,
    why text not null,
    added bigint not null,
    changed bigint not null,
    gone bigint not null
);
create index scan_report_folder on scan_report (folder_id);
create table scan_change (
    id bigserial primary key,
    report_id bigint not null references scan_report on delete cascade,
    what text not null,
    path text not null
);
create index scan_change_report on scan_change (report_id);
create table position (
    account text not null,
    file_id bigint not null references file on delete cascade,
    position_ms bigint not null,
    seen boolean not null,
    at_ms bigint not null,
    primary key (account, file_id)
);
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CHANGES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let undo = "drop table position, scan_change, scan_report, playlist; \
                    alter table folder drop column excluded";
        manager.get_connection().execute_unprepared(undo).await?;
        Ok(())
    }
}
