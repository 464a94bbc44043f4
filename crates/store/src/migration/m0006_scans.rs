//! What makes scans quicker to record. No index says which files are in a directory: every file
//! would pay for it, while a scan names each file that went, and whole folders are read and
//! removed in one pass over the table. And a report's files stand in the report: nothing asks
//! for one of them alone.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0006_scans"
    }
}

const CHANGES: &str = "
drop index file_container;
alter table scan_report add column files text not null default '[]';
update scan_report set files = told.files from (
    select report_id, json_agg(json_build_array(what, path) order by id)::text as files
    from scan_change group by report_id
) as told where told.report_id = scan_report.id;
drop table scan_change;
";

const UNDO: &str = "
create table scan_change (
    id bigserial primary key,
    report_id bigint not null references scan_report on delete cascade,
    what text not null,
    path text not null
);
create index scan_change_report on scan_change (report_id);
insert into scan_change (report_id, what, path)
    select report.id, file ->> 0, file ->> 1
    from scan_report as report, json_array_elements(report.files::json) as file;
alter table scan_report drop column files;
create index file_container on file using brin (container_id) with (pages_per_range = 32);
";

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(CHANGES).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UNDO).await?;
        Ok(())
    }
}
