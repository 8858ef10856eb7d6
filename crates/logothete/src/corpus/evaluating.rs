//! Measuring a corpus on questions.

use futures_util::StreamExt;
use futures_util::stream;
use logothete_core::Result;
use logothete_core::eval::{QuestionScore, Run, SetQuestion, score_question};

use super::Corpus;
use crate::config::GeneratorRole;
use crate::evaluation;
use crate::opened::Opened;
use crate::pipeline::Equipped;
use crate::search::SearchRequest;
use crate::threads::{Driver, StopToken};

impl Corpus {
    /// Searches and asks every question of a set, and scores the results. The model of `[generator]` writes the answers, if there is one;
    /// what it costs is the measure `money`, at the prices of the configuration.
    ///
    /// # Errors
    /// If the set is empty, or the corpus is damaged.
    pub async fn evaluate(&self, name: &str, questions: Vec<SetQuestion>) -> Result<Run> {
        evaluation::check(&questions)?;
        match self.generator(GeneratorRole::Answer)? {
            Some(equipped) => self.evaluated_by_model(name, questions, &equipped).await,
            None => self.evaluated(name, questions).await,
        }
    }

    async fn evaluated(&self, name: &str, questions: Vec<SetQuestion>) -> Result<Run> {
        let (name, sight) = (name.to_owned(), self.sight());
        let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
            evaluation::run(opened, &*sight.view(opened)?, driver, &name, &questions, stop)
        };
        self.drive(&StopToken::default(), work).await
    }

    async fn evaluated_by_model(&self, name: &str, questions: Vec<SetQuestion>, equipped: &Equipped) -> Result<Run> {
        let asked = stream::iter(&questions).map(|question| self.scored(question, equipped));
        let scores: Vec<Result<QuestionScore>> = asked.buffered(equipped.config.max_concurrent.max(1)).collect().await;
        let mut run = Run::new(name, scores.into_iter().collect::<Result<_>>()?);
        run.mismatches = self.query(move |_, view, _| evaluation::mismatches_in(view, &questions)).await?;
        Ok(run)
    }

    async fn scored(&self, question: &SetQuestion, equipped: &Equipped) -> Result<QuestionScore> {
        let request = SearchRequest::new(question.searched()).plain().traced();
        let reply = self.ask(request).await.map_err(|error| error.at(format!("question {}", question.id)))?;
        let mut score = score_question(question, &reply.passages, &reply.answer, &reply.trace);
        let money = equipped.config.price(reply.answer.tokens);
        if money > 0.0 {
            score.metrics.insert("money".to_owned(), money);
        }
        Ok(score)
    }
}
