package store

import (
	"time"

	"gorm.io/gorm/clause"

	"stockade/internal/api"
)

// Job is a piece of work that takes time. States: running, done, failed,
// stopped, interrupted.
type Job struct {
	ID       int64 `gorm:"primaryKey"`
	Kind     string
	Object   string       `gorm:"index"`
	State    api.JobState `gorm:"index"`
	By       string
	Started  time.Time
	Ended    *time.Time
	Progress string // JSON
	Problem  string // what went wrong, in people's words
	Findings string // JSON
	Result   string // JSON
}

// AddJob records a new job.
func (d *DB) AddJob(j *Job) error { return d.g.Create(j).Error }

// SaveJob records how a job stands. It is no change of anything else: see Changes.
func (d *DB) SaveJob(j Job) error {
	return d.g.Clauses(clause.OnConflict{UpdateAll: true}).Create(&j).Error
}

// JobBy gives one job.
func (d *DB) JobBy(id int64) (Job, error) { return one[Job](d, "id = ?", id) }

// Jobs gives the newest jobs before a number (0: all), perhaps of one state, without
// their results.
func (d *DB) Jobs(state, object string, before int64, limit int) ([]Job, error) {
	if before == 0 {
		before = 1 << 62
	}
	where, args := "id < ?", []any{before}
	if state != "" {
		where, args = where+" AND state = ?", append(args, state)
	}
	if object != "" {
		where, args = where+" AND object = ?", append(args, object)
	}
	return list[Job](d, []string{"result"}, "id DESC", limit, where, args...)
}

// FailedSince gives the newest jobs that ended since a time and were not done, nor stopped by
// somebody, without their results.
func (d *DB) FailedSince(at time.Time, most int) ([]Job, error) {
	return list[Job](d, []string{"result"}, "id DESC", most, "ended > ? AND state IN ?", at,
		[]api.JobState{api.Failed, api.Interrupted})
}

// LastJobs gives the newest job of each kind on each object, without their results.
func (d *DB) LastJobs() ([]Job, error) {
	return list[Job](d, []string{"result"}, "id", -1,
		"id IN (SELECT MAX(id) FROM jobs GROUP BY kind, object)")
}

// Unfinished gives the jobs that failed or were interrupted and that no newer job of the same kind on the
// same object followed, without their results. It reads the failed jobs and looks each up by its object: the
// jobs that ended well, which are the most, are not read.
func (d *DB) Unfinished() ([]Job, error) {
	return list[Job](d, []string{"result"}, "id", -1, "state IN ? AND NOT EXISTS (SELECT 1 FROM jobs AS "+
		"newer WHERE newer.object = jobs.object AND newer.kind = jobs.kind AND newer.id > jobs.id)",
		[]api.JobState{api.Failed, api.Interrupted})
}

// Interrupt marks the jobs that were running when the service ended.
func (d *DB) Interrupt(at time.Time) (int64, error) {
	r := d.g.Model(&Job{}).Where("state = ?", api.Running).Updates(map[string]any{"state": api.Interrupted,
		"ended":   at,
		"problem": "the service ended while it ran; run it again: what was verified is kept"})
	return r.RowsAffected, r.Error
}
