//! Walking devices through.

use actix_web::http::StatusCode;
use actix_web::{delete, get, post, put, web};
use mostra_api::{Answer, Cause, Taking, TestPieces, WalkthroughList, WalkthroughSummary};
use mostra_app::clock::ms;
use mostra_app::devices::Devices;
use mostra_app::library::Library;
use mostra_app::walkthroughs::{WalkthroughError, Walkthroughs};
use mostra_core::Moment;
use mostra_core::device::Device;
use mostra_core::ids::DeviceId;
use mostra_core::walkthrough::{self, Question, Report, StepState, Walkthrough};
use utoipa_actix_web::service_config::ServiceConfig;

use super::body::JsonBody;
use super::problem::ApiFailure;
use super::session::Caller;

pub(crate) fn routes(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(start)
        .service(show)
        .service(finish)
        .service(answer)
        .service(earlier);
}

fn missing() -> ApiFailure {
    ApiFailure::new(StatusCode::NOT_FOUND, "It has not been walked through")
        .next("`mostra walkthrough start DEVICE` begins.")
}

fn pieces(library: &Library) -> TestPieces {
    let now = library.test_pieces();
    TestPieces {
        made: now.made,
        of: library.test_pieces_in_all(),
        making: now.making,
        problem: now.problem,
    }
}

pub(crate) fn cause(cause: &walkthrough::Cause) -> Cause {
    Cause {
        cause: cause.word().to_owned(),
        seen: cause.seen(),
        remedy: cause.remedy(),
        place: cause.place().word().to_owned(),
    }
}

pub(crate) fn verdict_text(verdict: &walkthrough::WalkthroughVerdict) -> String {
    match verdict {
        walkthrough::WalkthroughVerdict::Confirmed => "It finds, lists and plays.".to_owned(),
        walkthrough::WalkthroughVerdict::KeptOut => "It is kept out, as decided.".to_owned(),
        walkthrough::WalkthroughVerdict::Open => "Not everything has been tried.".to_owned(),
        walkthrough::WalkthroughVerdict::Fails(cause) => cause.seen(),
    }
}

fn summary(
    device: &Device,
    one: &Walkthrough,
    report: &Report,
    due_again: &[&str],
) -> WalkthroughSummary {
    let can = report.steps.iter().filter(|step| step.state != StepState::NotPossibleYet);
    let done = report.steps.iter().filter(|step| matches!(step.state, StepState::Done(_)));
    WalkthroughSummary {
        device: device.id.0,
        label: device.label(),
        number: one.id,
        started_ms: ms(one.started),
        finished_ms: one.finished.map(ms),
        verdict: report.verdict.word().to_owned(),
        verdict_text: verdict_text(&report.verdict),
        done: done.count() as u32,
        steps: can.count() as u32,
        due_again: due_again.iter().map(|word| (*word).to_owned()).collect(),
    }
}

fn step(now: &walkthrough::StepNow) -> mostra_api::WalkthroughStep {
    let (state, proof, why) = match &now.state {
        StepState::Done(proof) => ("done", Some(proof), None),
        StepState::Open(why) => ("open", None, why.as_ref()),
        StepState::NotPossibleYet => ("not-possible-yet", None, None),
    };
    mostra_api::WalkthroughStep {
        step: now.step.word().to_owned(),
        kind: now.step.kind().map(|kind| kind.word().to_owned()),
        state: state.to_owned(),
        proves: now.step.proves().to_owned(),
        at_ms: proof.map(|proof| ms(proof.at())),
        evidence: proof.map(|proof| proof.evidence.clone()),
        item: proof.and_then(|proof| proof.item.clone()),
        bytes: proof.and_then(|proof| proof.bytes),
        given: now.counted.map(|(given, _)| given),
        expected: now.counted.map(|(_, expected)| expected),
        press: now.press.clone().filter(|press| !press.is_empty()),
        cause: why.map(cause),
    }
}

fn taking(taking: &walkthrough::Taking) -> Taking {
    Taking {
        title: taking.title.clone(),
        kind: taking.kind.word().to_owned(),
        format: taking.format.clone(),
        need: taking.need(),
        rate: taking.rate(),
        stalls: taking.stalls(),
        attempts: taking.attempts,
        seconds: taking.seconds.clone(),
    }
}

pub(crate) fn whole(
    walkthroughs: &Walkthroughs,
    library: &Library,
    id: DeviceId,
) -> Option<mostra_api::Walkthrough> {
    walkthroughs.look(id, |device, one, report, due| mostra_api::Walkthrough {
        summary: summary(device, one, report, &due),
        standing: device.stands().map_or("none", |standing| standing.word()).to_owned(),
        steps: report.steps.iter().map(step).collect(),
        remarks: report.remarks.iter().map(cause).collect(),
        questions: report
            .questions
            .iter()
            .map(|question| mostra_api::Question {
                question: question.word().to_owned(),
                kind: question.kind().word().to_owned(),
                asked: question.asked().to_owned(),
                said: one.said().get(question).copied(),
            })
            .collect(),
        takings: one.takings().iter().map(taking).collect(),
        test_pieces: pieces(library),
    })
}

#[utoipa::path(
    operation_id = "listWalkthroughs",
    summary = "The latest walkthrough of each device that was walked through, the latest first",
    responses((status = 200, body = mostra_api::WalkthroughList))
)]
#[get("/walkthroughs")]
async fn list(
    _: Caller,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    walkthroughs: web::Data<Walkthroughs>,
) -> web::Json<WalkthroughList> {
    let short =
        |id| walkthroughs.look(id, |device, one, report, due| summary(device, one, report, &due));
    web::Json(WalkthroughList {
        walkthroughs: devices.with_walkthroughs().into_iter().filter_map(short).collect(),
        test_pieces: pieces(&library),
    })
}

#[utoipa::path(
    operation_id = "startWalkthrough",
    summary = "Begin the walkthrough of a device, or go on with the one that runs",
    responses((status = 200, body = mostra_api::Walkthrough))
)]
#[post("/devices/{id}/walkthrough")]
async fn start(
    caller: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
    walkthroughs: web::Data<Walkthroughs>,
) -> Result<web::Json<mostra_api::Walkthrough>, ApiFailure> {
    let id = DeviceId(*id);
    let goes_on = walkthroughs.start(id).await.map_err(|error| match error {
        WalkthroughError::Store(error) => error.into(),
        WalkthroughError::Missing => {
            ApiFailure::new(StatusCode::NOT_FOUND, "There is no such device")
                .next("`mostra device list` lists those there are.")
        }
        WalkthroughError::Undecided(label) => {
            ApiFailure::new(StatusCode::CONFLICT, "It cannot be walked through yet")
                .why(format!("Nobody has decided on {label} yet."))
                .next("Let it in or refuse it first: `mostra device admit DEVICE`.")
        }
    })?;
    if !goes_on {
        tracing::info!(who = caller.0.account(), device = id.0, "a walkthrough begins");
    }
    whole(&walkthroughs, &library, id).map(web::Json).ok_or_else(missing)
}

#[utoipa::path(
    operation_id = "showWalkthrough",
    summary = "The walkthrough of a device that runs or was the last",
    responses((status = 200, body = mostra_api::Walkthrough))
)]
#[get("/devices/{id}/walkthrough")]
async fn show(
    _: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
    walkthroughs: web::Data<Walkthroughs>,
) -> Result<web::Json<mostra_api::Walkthrough>, ApiFailure> {
    whole(&walkthroughs, &library, DeviceId(*id)).map(web::Json).ok_or_else(missing)
}

#[utoipa::path(
    operation_id = "finishWalkthrough",
    summary = "Finish the walkthrough of a device; the test pieces are not shown to it any more",
    responses((status = 200, body = mostra_api::Walkthrough))
)]
#[delete("/devices/{id}/walkthrough")]
async fn finish(
    caller: Caller,
    id: web::Path<u32>,
    library: web::Data<Library>,
    walkthroughs: web::Data<Walkthroughs>,
) -> Result<web::Json<mostra_api::Walkthrough>, ApiFailure> {
    let id = DeviceId(*id);
    if !walkthroughs.finish(id).await? {
        return Err(ApiFailure::new(StatusCode::CONFLICT, "No walkthrough of it runs")
            .next("`mostra walkthrough start DEVICE` begins one."));
    }
    tracing::info!(who = caller.0.account(), device = id.0, "a walkthrough is finished");
    whole(&walkthroughs, &library, id).map(web::Json).ok_or_else(missing)
}

#[utoipa::path(
    operation_id = "answerInWalkthrough",
    summary = "Say what only a person can judge, or take that back",
    request_body = mostra_api::Answer,
    responses((status = 200, body = mostra_api::Walkthrough))
)]
#[put("/devices/{id}/walkthrough/answers")]
async fn answer(
    _: Caller,
    id: web::Path<u32>,
    body: JsonBody<Answer>,
    devices: web::Data<Devices>,
    library: web::Data<Library>,
    walkthroughs: web::Data<Walkthroughs>,
) -> Result<web::Json<mostra_api::Walkthrough>, ApiFailure> {
    let id = DeviceId(*id);
    let Some(question) = Question::from_word(&body.0.question) else {
        let known: Vec<&str> = Question::ALL.iter().map(|question| question.word()).collect();
        return Err(ApiFailure::invalid("There is no such question")
            .why(format!("It is {:?}.", body.0.question))
            .next(format!("There are {}.", known.join(", "))));
    };
    if !devices.say_in_walkthrough(id, question, body.0.said).await? {
        return Err(missing());
    }
    whole(&walkthroughs, &library, id).map(web::Json).ok_or_else(missing)
}

/// A walkthrough that was, as it was found.
#[utoipa::path(
    operation_id = "listEarlierWalkthroughs",
    summary = "The walkthroughs of a device, the latest first, at most 20",
    responses((status = 200, body = Vec<mostra_api::EarlierWalkthrough>))
)]
#[get("/devices/{id}/walkthroughs")]
async fn earlier(
    _: Caller,
    id: web::Path<u32>,
    devices: web::Data<Devices>,
) -> Result<web::Json<Vec<mostra_api::EarlierWalkthrough>>, ApiFailure> {
    let all = devices.walkthroughs_of(DeviceId(*id)).await?;
    let to_api = |one: Walkthrough| {
        let last = one.proofs().iter().map(|proof| proof.at()).max();
        mostra_api::EarlierWalkthrough {
            number: one.id,
            started_ms: ms(one.started),
            finished_ms: one.finished.map(ms),
            last_step_ms: last.filter(|at| *at > Moment::EPOCH).map(ms),
            done: one
                .proofs()
                .iter()
                .map(|proof| match proof.step.kind() {
                    Some(kind) => format!("{}: {}", proof.step.word(), kind.word()),
                    None => proof.step.word().to_owned(),
                })
                .collect(),
            finding: one.finding().map(cause),
        }
    };
    Ok(web::Json(all.into_iter().map(to_api).collect()))
}
