//! Bringing content here and dropping it: what `fetch`, `shed`, `hold` and a lane that changes over have in common.

use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::rules::Rule;
use katabatic_core::{Decision, Kind, Side, Step, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::{Pass, Plan, Progress, Report, WantedContents, Wish, to_prove};
use katabatic_engine::{Error, choose};
use katabatic_ledger::rows;
use serde_json::{Value, json};

use crate::about::About;
use crate::app::App;
use crate::commands::plan::{totals_json, totals_words};
use crate::commands::sync::{code_of, needing, report_json};
use crate::draw::listing::Item;
use crate::draw::{json, line, listing, progress, shown, time};
use crate::{exit, proof_words};

/// As many files that are not shed are named at the most.
const NAMED: usize = 20;

/// Brings the content of what is meant here, or drops it; with `preview` it only says what would be done.
pub fn carry(
    app: &App,
    about: Vec<About>,
    only: &[String],
    wanted: WantedContents,
    preview: bool,
) -> Result<ExitCode, Error> {
    let rule = |text: &String| {
        Rule::parse(text).map_err(|why| {
            Error::usage(
                format!("--only {text}"),
                why,
                "Rules are written as for what a lane leaves out: '*.pdf', 'Parts/**', ':larger 100MB'.",
            )
        })
    };
    let matching = only.iter().map(rule).collect::<Result<Vec<_>, _>>()?;
    let (mut code, mut answers) = (0, Vec::new());
    for About { lane, paths } in about {
        let one = Contents {
            app,
            wish: Wish {
                scope: paths,
                contents: Some(wanted),
                matching: matching.clone(),
                ..Wish::default()
            },
            lane,
            wanted,
        };
        one.check_paths()?;
        let (of_lane, answer) = one.carry(preview)?;
        code = exit::worse(code, of_lane);
        answers.push(answer);
        if app.stop.asked() {
            break;
        }
    }
    if app.common.json {
        json::print(&json!({"lanes": answers}));
    }
    Ok(ExitCode::from(code))
}

/// What would be done with a lane, or with some folders of it.
pub fn preview(app: &App, about: &About, wanted: WantedContents) -> Result<Plan, Error> {
    let lane = &about.lane;
    let wish = Wish {
        scope: about.paths.clone(),
        contents: Some(wanted),
        ..Wish::default()
    };
    app.run(async {
        let pass = app.pass(lane, Arc::new(Progress::default())).await?;
        pass.plan(&wish).await
    })
}

struct Contents<'a> {
    app: &'a App,
    lane: LaneConfig,
    wish: Wish,
    wanted: WantedContents,
}

impl Contents<'_> {
    /// A misspelt path must not look as if there were nothing to do.
    fn check_paths(&self) -> Result<(), Error> {
        for path in &self.wish.scope {
            let known = self.app.ledger.read(|connection| {
                let (mut any, lane) = (false, rows::lane_of(connection, &self.lane.id)?);
                if let Some(lane) = lane {
                    rows::each_row(connection, lane.key, path, |_| {
                        any = true;
                        false
                    })?;
                }
                Ok(any)
            })?;
            if !known {
                return Err(Error::usage(
                    path.to_string(),
                    format!("the lane {} knows of nothing of that name", self.lane.name),
                    format!(
                        "See what there is: katabatic status {}; what was never synced: katabatic sync {}",
                        self.lane.name, self.lane.name
                    ),
                ));
            }
        }
        Ok(())
    }

    fn carry(&self, preview: bool) -> Result<(u8, Value), Error> {
        let (app, name) = (self.app, &self.lane.name);
        let drawn = Arc::new(Progress::default());
        let pass = app.run(app.pass(&self.lane, Arc::clone(&drawn)))?;
        let plan = app.run(pass.plan(&self.wish))?;
        let outlook = to_prove(&pass, &plan)?;
        let stays = self.stays(&plan);
        let left_out = match self.wanted {
            WantedContents::Here => left_out_stubs(&plan, &self.wish),
            WantedContents::Away => Vec::new(),
        };
        if !app.common.json {
            for told in proof_words::outlook(&outlook) {
                line(format!("Lane {name}: {told}"));
            }
        }
        let report = match preview || plan.steps.is_empty() {
            true => None,
            false => {
                let running = pass.sync(&self.wish);
                Some(app.run(progress::during(app.style, name, drawn, running))?)
            }
        };
        let mut code = report.as_ref().map_or(0, code_of);
        let is_done = stays.is_empty() && left_out.is_empty();
        if !preview && !is_done {
            code = exit::worse(code, exit::NEEDS_A_PERSON);
        }
        let answer = json!({
            "lane": name,
            "would": totals_json(&plan.totals()),
            "proof": proof_words::outlook_json(&outlook),
            "stays": stays.iter().map(|step| json!({
                "path": step.path().as_str(), "reason": words::reason(step, &time::telling(self.lane.side_names()))
            })).collect::<Vec<_>>(),
            "left_out": left_out.iter().map(|step| json!({
                "path": step.path().as_str(), "reason": words::reason(step, &time::telling(self.lane.side_names()))
            })).collect::<Vec<_>>(),
            "held": self.held(),
            "done": report.as_ref().map(|report| report_json(name, report)),
        });
        if !app.common.json {
            match &report {
                Some(report) => self.say_done(&pass, report),
                None => self.say_plan(&plan, preview),
            }
            self.say_stays(&stays);
            self.say_left_out(&left_out);
        }
        Ok((code, answer))
    }

    /// What is meant and keeps its content, since the far side does not have this version yet, or for another reason.
    fn stays<'p>(&self, plan: &'p Plan) -> Vec<&'p Step> {
        let keeps = |step: &&Step| {
            let here = step.entry(Side::Near);
            here.is_some_and(|near| {
                let is_meant = self.wish.means(step.path(), near);
                near.kind == Kind::File && !near.is_stub() && is_meant
            }) && step.decision != Decision::Record
                // What a rule leaves out has no business over there.
                && !matches!(step.decision, Decision::Ruled(_))
                && self.lane.contents.held_by(step.path()).is_none()
        };
        match self.wanted {
            WantedContents::Here => Vec::new(),
            WantedContents::Away => plan.aside.iter().filter(keeps).collect(),
        }
    }

    /// What is meant and held, which is never shed.
    fn held(&self) -> Vec<String> {
        if self.wanted == WantedContents::Here {
            return Vec::new();
        }
        let meant = self.wish.paths();
        let contents = &self.lane.contents;
        contents
            .held()
            .filter(|held| {
                let met = |path| held.is_within(path) || path.is_within(held);
                meant.iter().any(met)
            })
            .map(ToString::to_string)
            .collect()
    }

    fn say_plan(&self, plan: &Plan, preview: bool) {
        let name = &self.lane.name;
        match (plan.steps.is_empty(), self.wanted) {
            (true, WantedContents::Here) if !self.wish.matching.is_empty() => line(format!(
                "Lane {name}: nothing to fetch: what these rules catch is on this computer, if there is any"
            )),
            (true, WantedContents::Here) if !plan.left_out.is_empty() => line(format!(
                "Lane {name}: nothing to fetch of what the lane carries"
            )),
            (true, WantedContents::Here) => line(format!(
                "Lane {name}: nothing to fetch; all of it has its content on this computer"
            )),
            (true, WantedContents::Away) => {
                line(format!("Lane {name}: nothing to shed; nothing was changed"))
            }
            (false, _) => {
                line(format!("Lane {name} would:"));
                for words in totals_words(&plan.totals(), plan.sides) {
                    line(format!("  {words}"));
                }
            }
        }
        if preview {
            line("Nothing was changed: --preview");
        }
    }

    fn say_done(&self, pass: &Pass, report: &Report) {
        let (app, counts) = (self.app, &report.counts);
        let files = |count: u64| words::count(count, "file", "files");
        let run = report
            .run
            .map_or_else(String::new, |run| format!(", run {run}"));
        line(match self.wanted {
            WantedContents::Here => format!(
                "Lane {}{run}: brought {}, {}",
                self.lane.name,
                files(counts.files_down),
                words::bytes(counts.bytes_down)
            ),
            WantedContents::Away => format!(
                "Lane {}{run}: shed {}, {} free again. Nothing was removed: all of it is in {}",
                self.lane.name,
                files(counts.shed),
                words::bytes(counts.bytes_shed),
                self.lane.far_place()
            ),
        });
        if report.believed > 0 {
            line(format!("  {}", proof_words::believed(report.believed)));
        }
        if report.held_open > 0 {
            line(format!("  {}", proof_words::held_open(report.held_open)));
        }
        for (path, why) in &report.kept_as_spares {
            line(format!("  {} is kept among the spares: {why}", shown(path)));
        }
        if let Some(free) = app.run(choose::free_here(pass)) {
            line(format!("  the disk has {} free now", words::bytes(free)));
        }
        if report.stopped {
            line("  Stopped in order; the rest is as it was");
        }
        needing(app, &self.lane.name, report);
    }

    fn say_stays(&self, stays: &[&Step]) {
        for held in self.held() {
            line(format!(
                "  {held} is held, and stays (to let it go: katabatic hold --off)"
            ));
        }
        if stays.is_empty() {
            return;
        }
        line(format!(
            "  {} not shed, since the far side does not have just this version:",
            words::count(stays.len() as u64, "file is", "files are")
        ));
        self.name_each(stays);
        line(format!(
            "  Next: katabatic sync {}, and shed again",
            self.lane.name
        ));
    }

    fn say_left_out(&self, left_out: &[&Step]) {
        if left_out.is_empty() {
            return;
        }
        line(format!(
            "  {} not fetched, since the lane leaves it out:",
            words::count(left_out.len() as u64, "stub is", "stubs are")
        ));
        self.name_each(left_out);
        line(format!(
            "  Next: let them in (katabatic why PATH says how), katabatic sync {}, and fetch again",
            self.lane.name
        ));
    }

    fn name_each(&self, steps: &[&Step]) {
        let item = |step: &&Step| Item {
            lead: words::action(&step.decision).into(),
            name: shown(step.path()),
            size: String::new(),
            reason: words::reason(step, &time::telling(self.lane.side_names())),
        };
        let items: Vec<Item> = steps.iter().take(NAMED).map(item).collect();
        listing::print(self.app.style, 4, &items);
        if steps.len() > NAMED {
            line(format!("    and {} more", steps.len() - NAMED));
        }
    }
}

/// Stubs that a rule or the choice leaves out: they stay as they are, and nothing brings their content.
pub fn left_out_stubs<'p>(plan: &'p Plan, wish: &Wish) -> Vec<&'p Step> {
    let is_one = |step: &&Step| {
        let near = step.entry(Side::Near);
        matches!(step.decision, Decision::Ruled(_))
            && near.is_some_and(|near| near.is_stub() && wish.means(step.path(), near))
    };
    plan.aside
        .iter()
        .chain(&plan.steps)
        .filter(is_one)
        .collect()
}
