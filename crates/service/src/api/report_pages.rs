//! What an HTML report tells besides its tests: facts, what is new, what failed attempts left behind, what each slot did.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    io::Cursor,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use base64::{Engine as _, engine::general_purpose::STANDARD};
use futures::StreamExt;
use image::{ImageReader, Limits, codecs::jpeg::JpegEncoder};
use kesmo_core::{
    format::{
        html::{Detail, DetailAttempt, File, Lanes, More, NewIn},
        report::{MOST_OUTPUTS, end_of},
    },
    name::shorten,
    run::timeline::blocks,
    source::short_commit,
    time::Span,
    words::{Ended, Outcome},
};
use kesmo_store::{
    month_of,
    past::{ArtifactRow, AttemptRow},
    runs::RunRow,
};
use kesmo_wire::{
    Digest,
    api::{Compared, entry_name, part_name},
};

use super::{
    breakdown::places_of,
    comparing,
    entries::{log_text, media_type},
};
use crate::{app::App, past::Past, refused::Refused};

/// Failing and flaky entries that are told in full; what their attempts printed is told of fewer.
const MOST_DETAILS: usize = 1000;
/// What all pictures and videos take at most in the report: small ones, and all.
const MOST_SMALL: usize = 12 << 20;
const MOST_BYTES: usize = 60 << 20;
/// One that is larger is left out.
const LARGEST: i64 = 20 << 20;
/// One of a kind that cannot be made smaller stands in the report as it is up to this.
const LARGEST_UNREAD: usize = 300 << 10;
/// A picture is made as small as this in pixels, with this quality; where there are so many that they would not all stand in the
/// report, smaller.
const SMALL: [(u32, u8); 3] = [(720, 75), (540, 65), (400, 55)];
/// What is drawn by lines is as small as it is.
const DRAWN: &str = "image/svg+xml";
/// So many pictures are made smaller at most, and so many at once: each takes memory and a core.
const MOST_MADE: usize = 1000;
const MOST_AT_ONCE: usize = 4;
/// Pixels of a picture that is read at all.
const LARGEST_SIDE: u32 = 12_000;
/// Blocks of the timeline.
const BLOCKS: u64 = 1500;
const MOST_LANES: usize = 64;

/// Which pictures and videos stand in a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Pictures {
    None,
    Small,
    All,
}

impl Pictures {
    pub fn parse(word: Option<&str>) -> Result<Self, Refused> {
        match word {
            None | Some("small") => Ok(Self::Small),
            Some("all") => Ok(Self::All),
            Some("none") => Ok(Self::None),
            Some(other) => Err(Refused::invalid(format!("pictures={other:?}: use small, all or none"))),
        }
    }
}

/// Everything that an HTML report of a run tells besides its tests.
pub(super) async fn more_of(
    app: &App,
    row: &RunRow,
    suite: &str,
    past: &Past,
    attempts: &[AttemptRow],
    pictures: Pictures,
) -> Result<More, Refused> {
    app.floor.recorded().await;
    // Pictures take memory and a thread: few reports are made at a time.
    let _turn = app.unpacking.acquire().await.map_err(|e| Refused::unavailable(e.to_string()))?;
    let new = comparing::with_last(app, row, suite).await?.map(|found| new_in(&found));
    let mut more = More { facts: facts(row)?, new, ..More::default() };
    let bad = |(_, state): &(usize, &(Outcome, u16, u64))| matches!(state.0, Outcome::Failed | Outcome::Flaky);
    let all: Vec<usize> = past.states.iter().enumerate().filter(bad).map(|(index, _)| index).collect();
    if all.len() > MOST_DETAILS {
        more.left_out.push(format!(
            "Of {} tests that failed or were flaky the first {MOST_DETAILS} are told in full.",
            all.len()
        ));
    }
    let told: BTreeSet<i32> = all.iter().take(MOST_DETAILS).map(|index| *index as i32).collect();
    let mut files = Files::of(app, row, &told, pictures).await?;
    let mut by_entry: HashMap<i32, Vec<&AttemptRow>> = HashMap::new();
    for attempt in attempts.iter().filter(|a| told.contains(&a.entry)) {
        by_entry.entry(attempt.entry).or_default().push(attempt);
    }
    let mut logs = 0;
    for index in &told {
        let planned = &past.plan.entries[*index as usize];
        let mut detail = Detail {
            name: part_name(planned.name.as_str(), "", u32::from(planned.repeat), planned.parts()),
            variant: past.plan.variant_of(*index as u32).to_string(),
            outcome: past.states[*index as usize].0,
            attempts: Vec::new(),
        };
        for attempt in by_entry.remove(index).unwrap_or_default() {
            let ended = Ended::of(&attempt.ended).unwrap_or(Ended::Lost);
            let wanted = attempt.log_bytes > 0 && ended.failing();
            let output = if wanted && logs < MOST_OUTPUTS {
                logs += 1;
                end_of(log_text(app, row, attempt.entry, attempt.number).await?.unwrap_or_default())
            } else {
                String::new()
            };
            detail.attempts.push(DetailAttempt {
                number: attempt.number.max(0) as u32,
                ended,
                worker: attempt.worker.clone(),
                spent: Span(attempt.spent_us.max(0) as u64),
                message: attempt.message.clone(),
                detail: attempt.detail.clone(),
                steps: serde_json::from_value(attempt.steps.clone()).unwrap_or_default(),
                output,
                files: files.of_attempt(attempt.entry, attempt.batch).await,
            });
        }
        more.details.push(detail);
    }
    more.left_out.extend(files.left_out());
    more.timeline = lanes(app, row).await?;
    Ok(more)
}

fn facts(row: &RunRow) -> Result<Vec<(String, String)>, Refused> {
    let moment = |at: Option<chrono::DateTime<chrono::Utc>>| {
        at.map(|at| at.format("%Y-%m-%d %H:%M:%S UTC").to_string()).unwrap_or_default()
    };
    let labels: std::collections::BTreeMap<String, String> =
        serde_json::from_value(row.labels.clone()).unwrap_or_default();
    let options = row.run_options()?;
    let settings: Vec<String> = options.set.iter().map(|(k, v)| format!("{k} = {v}")).collect();
    let labels: Vec<String> = labels.iter().map(|(k, v)| format!("{k}={v}")).collect();
    let of = [
        ("Chosen", options.alike().said),
        ("Started", format!("{} by {}", moment(Some(row.created_at)), row.started_by)),
        ("Ended", moment(row.finished_at)),
        ("Pool", row.pool.clone()),
        ("Branch", row.branch.clone().unwrap_or_default()),
        ("Commit", row.commit.as_deref().map(|c| short_commit(c).to_owned()).unwrap_or_default()),
        ("Brief", row.brief.clone().unwrap_or_default()),
        ("Settings", settings.join(", ")),
        ("Labels", labels.join(", ")),
    ];
    Ok(of.into_iter().map(|(head, said)| (head.to_owned(), said)).collect())
}

fn new_in(found: &Compared) -> NewIn {
    let with = found.with.clone().unwrap_or_default();
    let wanted = ["newly failing", "newly flaky", "mended", "not tested any more", "slower"];
    let lists = found.lists().into_iter().filter(|(head, list)| wanted.contains(head) && list.total > 0);
    let names = |list: &kesmo_wire::api::ComparedTests| {
        list.tests.iter().map(|t| entry_name(&t.test, &t.variant, 0)).collect::<Vec<_>>()
    };
    NewIn {
        against: format!("{with}, {}", found.because),
        lists: lists.map(|(head, list)| (head.to_owned(), names(list))).collect(),
    }
}

/// What each slot did when.
async fn lanes(app: &App, row: &RunRow) -> Result<Option<Lanes>, Refused> {
    let rows = app.store.lanes(row.id, month_of(row.created_at)).await?;
    let Some(began) = row.began_at.into_iter().chain(rows.iter().map(|r| r.began_at)).min() else { return Ok(None) };
    let (mut all, mut places) = places_of(&rows, began);
    all.truncate(MOST_LANES);
    places.retain(|place| (place.lane as usize) < MOST_LANES);
    let to = places.iter().map(|p| p.to_us).max().unwrap_or(0);
    if to == 0 {
        return Ok(None);
    }
    let grain = to * all.len().max(1) as u64 / BLOCKS;
    let names = all.iter().map(|(worker, slot)| format!("{worker}.{slot}")).collect();
    Ok(Some(Lanes { names, blocks: blocks(places, grain), to: Span(to) }))
}

/// What attempts left behind, as far as it stands in the report.
struct Files<'a> {
    app: &'a App,
    pictures: Pictures,
    rows: HashMap<(i32, i32), Vec<ArtifactRow>>,
    taken: usize,
    without: usize,
    /// Pictures that were made smaller, by their digests.
    made: HashMap<String, Option<(Vec<u8>, String)>>,
}

impl<'a> Files<'a> {
    async fn of(app: &'a App, row: &RunRow, told: &BTreeSet<i32>, pictures: Pictures) -> Result<Self, Refused> {
        let mut rows: HashMap<(i32, i32), Vec<ArtifactRow>> = HashMap::new();
        for file in app.store.artifacts(row.id, None).await? {
            if let Some(entry) = file.entry.filter(|entry| told.contains(entry)) {
                rows.entry((entry, file.batch)).or_default().push(file);
            }
        }
        let is_picture = |file: &&ArtifactRow| media_type(&file.path).to_string().starts_with("image/");
        let made = match pictures {
            Pictures::Small => made_smaller(app, rows.values().flatten().filter(is_picture).collect()).await,
            Pictures::None | Pictures::All => HashMap::new(),
        };
        Ok(Self { app, pictures, rows, taken: 0, without: 0, made })
    }

    async fn of_attempt(&mut self, entry: i32, batch: i32) -> Vec<File> {
        let mut files = Vec::new();
        for row in self.rows.remove(&(entry, batch)).unwrap_or_default() {
            let kind = media_type(&row.path).to_string();
            let (content, kind) = match self.content(&row, &kind).await {
                Some((content, kind)) => (Some(content), kind),
                None => (None, kind),
            };
            files.push(File {
                path: row.path,
                about: shorten(&row.about, 300),
                bytes: row.bytes.max(0) as u64,
                media_type: kind,
                content,
            });
        }
        files
    }

    /// A picture or video in Base64 with its media type, if it stands in the report.
    async fn content(&mut self, row: &ArtifactRow, kind: &str) -> Option<(String, String)> {
        let (picture, video) = (kind.starts_with("image/"), kind.starts_with("video/"));
        if !(picture || video) || self.pictures == Pictures::None {
            return None;
        }
        let most = if self.pictures == Pictures::All { MOST_BYTES } else { MOST_SMALL };
        if (video && self.pictures == Pictures::Small) || row.bytes > LARGEST || self.taken >= most {
            self.without += 1;
            return None;
        }
        let read = if self.pictures == Pictures::Small && picture && kind != DRAWN {
            self.made.get(&row.digest).cloned().flatten()
        } else {
            let bytes = self.app.blobs.read(&Digest::parse(&row.digest).ok()?).await.ok()?;
            Some((bytes, kind.to_owned()))
        };
        let Some((bytes, kind)) = read.filter(|(bytes, _)| self.taken + bytes.len() <= most) else {
            self.without += 1;
            return None;
        };
        self.taken += bytes.len();
        Some((STANDARD.encode(bytes), kind))
    }

    fn left_out(&self) -> Option<String> {
        (self.without > 0).then(|| {
            let rest = if self.pictures == Pictures::Small { "; --pictures all takes more in" } else { "" };
            format!("{} pictures and videos are not in this file{rest}.", self.without)
        })
    }
}

/// Pictures, made smaller beside each other, by their digests: none of one that cannot be read and is large.
async fn made_smaller(app: &App, all: Vec<&ArtifactRow>) -> HashMap<String, Option<(Vec<u8>, String)>> {
    // What each may take, so that all stand in the report.
    let share = MOST_SMALL / all.len().max(1);
    let drawn = |row: &&&ArtifactRow| media_type(&row.path).to_string() == DRAWN;
    let mut wanted: BTreeMap<&str, String> = BTreeMap::new();
    for row in all.iter().filter(|row| !drawn(row) && row.bytes <= LARGEST).take(MOST_MADE) {
        wanted.insert(&row.digest, media_type(&row.path).to_string());
    }
    // Those after the first begin with the size that the ones before them came to.
    let size = Arc::new(AtomicUsize::new(0));
    let one = |(digest, kind): (&str, String)| {
        let (digest, size) = (digest.to_owned(), Arc::clone(&size));
        let (blobs, name) = (app.blobs.clone(), Digest::parse(&digest));
        async move {
            let bytes = match name {
                Ok(name) => blobs.read(&name).await.ok(),
                Err(_) => None,
            };
            let made = tokio::task::spawn_blocking(move || {
                let bytes = bytes?;
                smaller(&bytes, share, &size).or_else(|| (bytes.len() <= LARGEST_UNREAD).then_some((bytes, kind)))
            });
            (digest, made.await.ok().flatten())
        }
    };
    let at_once = std::thread::available_parallelism().map_or(1, usize::from).min(MOST_AT_ONCE);
    futures::stream::iter(wanted).map(one).buffer_unordered(at_once).collect().await
}

/// A picture, made smaller if it is large, and more so if it would take more than its share; none if it cannot be read.
fn smaller(bytes: &[u8], share: usize, size: &AtomicUsize) -> Option<(Vec<u8>, String)> {
    let mut reader = ImageReader::new(Cursor::new(bytes)).with_guessed_format().ok()?;
    let mut limits = Limits::default();
    (limits.max_image_width, limits.max_image_height) = (Some(LARGEST_SIDE), Some(LARGEST_SIDE));
    limits.max_alloc = Some(256 << 20);
    reader.limits(limits);
    let picture = reader.decode().ok()?;
    let mut out = Vec::new();
    for (number, (width, quality)) in SMALL.into_iter().enumerate().skip(size.load(Ordering::Relaxed)) {
        let small = if picture.width() > width { &picture.thumbnail(width, LARGEST_SIDE) } else { &picture };
        let mut made = Vec::new();
        JpegEncoder::new_with_quality(&mut made, quality).encode_image(&small.to_rgb8()).ok()?;
        out = made;
        // A drawing of few colours may be smaller as it was.
        if bytes.len() <= out.len() {
            let kind = if bytes.starts_with(b"\x89PNG") { "image/png" } else { "image/jpeg" };
            return Some((bytes.to_vec(), kind.to_owned()));
        }
        if out.len() <= share {
            // One that takes little would have stood larger, and so may the next.
            let next = if out.len() * 2 <= share { number.saturating_sub(1) } else { number };
            size.store(next, Ordering::Relaxed);
            break;
        }
        size.store((number + 1).min(SMALL.len() - 1), Ordering::Relaxed);
    }
    Some((out, "image/jpeg".to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{ImageFormat, RgbImage};

    fn png(width: u32, height: u32) -> Vec<u8> {
        let picture = RgbImage::from_fn(width, height, |x, y| {
            image::Rgb([(x * 7 % 256) as u8, (y * 13 % 256) as u8, ((x * y) % 256) as u8])
        });
        let mut out = Cursor::new(Vec::new());
        picture.write_to(&mut out, ImageFormat::Png).expect("a picture");
        out.into_inner()
    }

    #[test]
    fn large_pictures_are_made_smaller_and_what_is_none_is_left_out() {
        let large = png(1280, 800);
        let (small, kind) = smaller(&large, usize::MAX, &AtomicUsize::new(0)).expect("a picture");
        assert!(small.len() * 3 < large.len(), "{} of {}", small.len(), large.len());
        assert_eq!(kind, "image/jpeg");
        let read = image::load_from_memory(&small).expect("a picture");
        assert_eq!((read.width(), read.height()), (720, 450));
        let (least, _) = smaller(&large, 1000, &AtomicUsize::new(0)).expect("a picture");
        assert_eq!(image::load_from_memory(&least).expect("a picture").width(), 400, "one of many");
        assert!(least.len() * 2 < small.len(), "{} of {}", least.len(), small.len());
        assert!(smaller(b"no picture at all", 1000, &AtomicUsize::new(0)).is_none());
        assert!(smaller(&large[..large.len() / 2], 1000, &AtomicUsize::new(0)).is_none(), "one that was cut off");
    }
}
