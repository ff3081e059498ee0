package store

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"unlatch/core/ground/scram"
)

// farGroup is the role that all paired workers belong to: it has the rights on tables, and policies say which rows those are for whom.
const farGroup = "unlatch_far"

// farRights are the rights of paired workers, by table. A table that is not in it is none of theirs. Policies of the same tables, in
// migration 40, say which rows they see.
var farRights = map[string]string{
	"agreements":        "SELECT, INSERT, UPDATE",
	"audit":             "SELECT, INSERT",
	"baselines":         "SELECT",
	"books":             "SELECT",
	"consents":          "SELECT, INSERT, UPDATE",
	"device_marks":      "SELECT, INSERT, UPDATE",
	"device_plans":      "SELECT",
	"devices":           "SELECT, INSERT, UPDATE (addr, endpoint, serial, mac, certificate)",
	"drifts":            "SELECT, INSERT, UPDATE",
	"evidence":          "SELECT, INSERT",
	"expected":          "SELECT",
	"feed_screens":      "SELECT, INSERT, UPDATE, DELETE",
	"goose_db_version":  "SELECT",
	"keeping_rule":      "SELECT",
	"latest_evidence":   "SELECT",
	"measures_hour":     "SELECT, INSERT, UPDATE",
	"measures_minute":   "SELECT, INSERT, UPDATE",
	"measures_quarter":  "SELECT, INSERT, UPDATE",
	"mends":             "SELECT, INSERT",
	"path_books":        "SELECT",
	"person_sites":      "SELECT",
	"plans":             "SELECT",
	"processes":         "SELECT, INSERT, UPDATE, DELETE",
	"relay_status":      "SELECT, INSERT, UPDATE",
	"relays":            "SELECT, DELETE",
	"runs":              "SELECT, INSERT, UPDATE",
	"sign_in_devices":   "SELECT",
	"sign_ins":          "SELECT",
	"site_plan_marks":   "SELECT",
	"site_plans":        "SELECT",
	"sites":             "SELECT, UPDATE (changed)",
	"spans":             "SELECT, INSERT, UPDATE",
	"stills":            "SELECT, INSERT, UPDATE (sketch)",
	"storms":            "SELECT, INSERT, UPDATE, DELETE",
	"stream_roles":      "SELECT",
	"target_agreements": "SELECT, UPDATE (identity, ended_at, ended_why)",
	"target_seen":       "SELECT, INSERT, UPDATE",
	"targets": "SELECT, INSERT (id, site_id, kind, device_id), UPDATE (takes, opened_under, opened_with, about, refused_id, name, " +
		"layout, pin, silent_since, seen_at, " +
		"listed_at)",
	"tries":                "SELECT, INSERT, UPDATE",
	"views":                "SELECT, INSERT, UPDATE",
	"waivers":              "SELECT",
	"wanted_placements":    "SELECT, INSERT, UPDATE, DELETE",
	"watched":              "SELECT, INSERT, UPDATE, DELETE",
	"worker_sites":         "SELECT, INSERT, DELETE",
	"worker_programs":      "SELECT",
	"worker_program_parts": "SELECT",
	"worker_updates":       "SELECT, UPDATE (state, problem, changed_at)",
	"workers":              "SELECT, INSERT, UPDATE",
	"wrapped_keys":         "SELECT",

	"river_job":       "SELECT, INSERT, UPDATE",
	"river_leader":    "SELECT, INSERT, UPDATE, DELETE",
	"river_migration": "SELECT",
	"river_queue":     "SELECT, INSERT, UPDATE",
}

// farSequences are those that workers take numbers from.
var farSequences = []string{"worker_epochs", "river_job_id_seq"}

// farQueue keeps the queue's own tables from paired workers but for the rows of their sites. A worker never leads: what the leader does is
// done on all jobs.
const farQueue = `
ALTER TABLE river_job ENABLE ROW LEVEL SECURITY;
ALTER TABLE river_queue ENABLE ROW LEVEL SECURITY;
ALTER TABLE river_leader ENABLE ROW LEVEL SECURITY;
CREATE POLICY far ON river_job USING (far_queue(queue)) WITH CHECK (far_queue(queue));
CREATE POLICY far ON river_queue USING (far_queue(name) OR name LIKE 'far-%') WITH CHECK (far_queue(name) OR name LIKE 'far-%');
CREATE POLICY far_looks ON river_leader FOR SELECT USING (true);
CREATE POLICY far ON river_leader FOR INSERT WITH CHECK (far_worker() IS NULL);
CREATE FUNCTION far_never_leads() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF far_worker() IS NOT NULL THEN
        RETURN NULL;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER far_never_leads BEFORE INSERT ON river_leader FOR EACH ROW EXECUTE FUNCTION far_never_leads();`

// keepQueueFromFar makes the policies of the queue's tables where there are none yet.
func (s *Store) keepQueueFromFar(ctx context.Context) error {
	var there bool
	if err := s.on(ctx).GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM pg_policies WHERE tablename = 'river_job' AND "+
		"policyname = 'far')"); err != nil ||
		there {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, farQueue)
		return err
	})
}

// A RolesError means that the server's own role may not make roles for paired workers.
type RolesError struct{ Role string }

func (e *RolesError) Error() string {
	return "the database role " + e.Role + " may not make roles, and each paired worker has one of its own; allow it: ALTER ROLE " + e.Role +
		" CREATEROLE"
}

// roleOf is the name of a paired worker's role.
func roleOf(worker uuid.UUID) string {
	return "unlatch_far_" + strings.ReplaceAll(worker.String(), "-", "")
}

// workerOwner is what the password of a worker's role is bound to where it is encrypted.
func workerOwner(id uuid.UUID) string { return "worker " + id.String() }

// EnsureRoles brings the roles of paired workers in step with what the database knows of them: after a restore they may not be there, or
// have other passwords, and after an update of the program they may need other rights. A server does it when it starts.
func (s Paired) EnsureRoles(ctx context.Context) error {
	var workers []struct {
		ID     uuid.UUID `db:"id"`
		Sealed []byte    `db:"sealed"`
	}
	if err := s.on(ctx).SelectContext(ctx, &workers, "SELECT id, sealed FROM paired_workers WHERE revoked_at IS NULL"); err != nil ||
		len(workers) == 0 {
		return err
	}
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := s.allowFar(ctx, tx); err != nil {
			return err
		}
		for _, w := range workers {
			password, err := s.cipher.Decrypt(w.Sealed, workerOwner(w.ID))
			if err != nil { // the key file that it was encrypted with was lost
				password = newPassword()
			}
			if err := s.putRole(ctx, tx, w.ID, password); err != nil {
				return err
			}
		}
		return nil
	})
}

func newPassword() string {
	raw := make([]byte, 32)
	rand.Read(raw)
	return base64.RawURLEncoding.EncodeToString(raw)
}

// makeRole gives a paired worker a role of its own, with a password that only this server knows. Its error is a *RolesError where the
// server may not.
func (s Paired) makeRole(ctx context.Context, tx *sqlx.Tx, worker uuid.UUID) error {
	if err := s.allowFar(ctx, tx); err != nil {
		return err
	}
	return s.putRole(ctx, tx, worker, newPassword())
}

// putRole makes the role of a worker, or gives it a password where it is there. The server's own role becomes a member of it, so that it
// may end its connections.
func (s Paired) putRole(ctx context.Context, tx *sqlx.Tx, worker uuid.UUID, password string) error {
	role := roleOf(worker)
	var there bool
	if err := tx.GetContext(ctx, &there, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)", role); err != nil {
		return err
	}
	// A role takes no parameters. What stands in the statement is of letters, digits and signs that need no quoting.
	text := fmt.Sprintf("ALTER ROLE %s PASSWORD '%s'", role, scram.Verifier(password, scram.Rounds))
	if !there {
		text = fmt.Sprintf("CREATE ROLE %[1]s LOGIN CONNECTION LIMIT 60 PASSWORD '%[2]s' IN ROLE %[3]s ROLE %[4]s; "+
			"ALTER ROLE %[1]s SET idle_in_transaction_session_timeout = '2min'", role, scram.Verifier(password, scram.Rounds), farGroup,
			pgx.Identifier{s.login}.Sanitize())
	}
	if _, err := tx.ExecContext(ctx, text); err != nil {
		return s.rolesError(err)
	}
	_, err := tx.ExecContext(ctx, "UPDATE paired_workers SET role = $2, sealed = $3 WHERE id = $1", worker, role,
		s.cipher.Encrypt(password, workerOwner(worker)))
	return err
}

// allowFar gives the group of paired workers its rights, and makes it where there is none.
func (s Paired) allowFar(ctx context.Context, tx *sqlx.Tx) error {
	// Two that change rights on the same tables at once would get in each other's way.
	if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(7306003)"); err != nil {
		return err
	}
	var b strings.Builder
	// Another database of the same cluster may make it at the same moment.
	fmt.Fprintf(&b, "DO $$ BEGIN IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '%[1]s') THEN CREATE ROLE %[1]s NOLOGIN; END IF; "+
		"EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$;", farGroup)
	fmt.Fprintf(&b, "GRANT USAGE ON SCHEMA public TO %s;", farGroup)
	for table, rights := range farRights {
		fmt.Fprintf(&b, "REVOKE ALL ON %[2]s FROM %[3]s; GRANT %[1]s ON %[2]s TO %[3]s;", rights, table, farGroup)
	}
	for _, sequence := range farSequences {
		fmt.Fprintf(&b, "GRANT USAGE ON SEQUENCE %s TO %s;", sequence, farGroup)
	}
	_, err := tx.ExecContext(ctx, b.String())
	return s.rolesError(err)
}

// rolesError says so where the server's role lacks the right to make roles (PostgreSQL error 42501).
func (s Paired) rolesError(err error) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) || pg.Code != "42501" {
		return err
	}
	return &RolesError{s.login}
}

// dropRole ends what a worker does at this moment, and takes its role away.
func (s Paired) dropRole(ctx context.Context, tx *sqlx.Tx, worker uuid.UUID) error {
	var role *string
	if err := tx.GetContext(ctx, &role, "SELECT role FROM paired_workers WHERE id = $1", worker); err != nil || role == nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(7306003)"); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = $1", *role); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "DROP ROLE IF EXISTS "+*role)
	return s.rolesError(err)
}

// Login returns by which role and password the server signs a paired worker in at the database.
func (s Paired) Login(ctx context.Context, worker uuid.UUID) (role, password string, err error) {
	var row struct {
		Role   *string `db:"role"`
		Sealed []byte  `db:"sealed"`
	}
	err = notFoundIfNone(s.on(ctx).GetContext(ctx, &row, "SELECT role, sealed FROM paired_workers WHERE id = $1 AND revoked_at IS "+
		"NULL", worker))
	if err == nil && row.Role == nil {
		err = ErrNotFound
	}
	if err != nil {
		return "", "", err
	}
	password, err = s.cipher.Decrypt(row.Sealed, workerOwner(worker))
	return *row.Role, password, err
}
