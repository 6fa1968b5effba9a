package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// FactorToken is a second factor, or what those of a person have in common; times are in milliseconds since 1970.
type FactorToken struct {
	ID string `db:"id"`
	// Kind is what it is; see package factor.
	Kind      string `db:"kind"`
	Store     string `db:"store"`
	Name      string `db:"name"`
	Display   string `db:"display"`
	Label     string `db:"label"`
	Algorithm string `db:"algorithm"`
	Digits    int    `db:"digits"`
	Period    int    `db:"period"`
	// Secrets are sealed.
	Secrets   string `db:"secrets"`
	Recovery  int    `db:"recovery"`
	Confirmed bool   `db:"confirmed"`
	Step      int64  `db:"step"`
	Skew      int64  `db:"skew"`
	MadeAt    int64  `db:"made_at"`
	MadeBy    string `db:"made_by"`
	UsedAt    int64  `db:"used_at"`
	UsedOn    string `db:"used_on"`
}

// Factors are the second factors of some: of people, or of operators.
type Factors struct {
	*Store
	table string
}

// PeopleFactors are those of people.
func (s *Store) PeopleFactors() Factors { return Factors{s, "factors"} }

// OperatorFactors are those of operators.
func (s *Store) OperatorFactors() Factors { return Factors{s, "operator_factors"} }

// FactorTokens returns all tokens.
func (s Factors) FactorTokens(ctx context.Context) ([]FactorToken, error) {
	out := []FactorToken{}
	err := s.db.SelectContext(ctx, &out, selectFactorToken+s.table)
	return out, err
}

// AddFactorTokens adds or replaces tokens and removes others, all or nothing.
func (s Factors) AddFactorTokens(ctx context.Context, add []FactorToken, remove []string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		for _, id := range remove {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+s.table+" WHERE id = ?", id); err != nil {
				return err
			}
		}
		for _, t := range add {
			if _, err := tx.NamedExecContext(ctx, "INSERT OR REPLACE "+s.insert(), t); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s Factors) insert() string {
	return "INTO " + s.table + ` (` + factorColumns + `)
		VALUES (:id, :store, :name, :display, :label, :algorithm, :digits, :period, :secrets, :recovery, :confirmed,
		:step, :skew, :made_at, :made_by, :used_at, :used_on, :kind)`
}

// SaveFactorToken writes what a sign-in changes of a token; one that was removed meanwhile gives ErrNotFound. What a
// person's have in common is there once it is written.
func (s Factors) SaveFactorToken(ctx context.Context, t FactorToken) error {
	return s.SaveFactorTokens(ctx, []FactorToken{t})
}

// SaveFactorTokens does that for several, all or nothing.
func (s Factors) SaveFactorTokens(ctx context.Context, list []FactorToken) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return s.save(ctx, tx, list...) })
}

// SaveFactorTokenAlone does that here alone while no majority of the nodes can be reached; it is shared when one can.
func (s Factors) SaveFactorTokenAlone(ctx context.Context, t FactorToken) error {
	return s.alone(ctx, func(tx *sqlx.Tx) error { return s.save(ctx, tx, t) })
}

func (s Factors) save(ctx context.Context, tx *sqlx.Tx, list ...FactorToken) error {
	update, err := tx.PrepareContext(ctx, "UPDATE "+s.table+" SET secrets = ?, recovery = ?, step = ?, skew = ?, "+
		"used_at = ?, used_on = ? WHERE id = ?")
	if err != nil {
		return err
	}
	defer update.Close()
	for i := range list {
		if t := &list[i]; t.Kind == FactorsInCommon {
			_, err = tx.NamedExecContext(ctx, "INSERT "+s.insert()+
				" ON CONFLICT (id) DO UPDATE SET secrets = excluded.secrets, recovery = excluded.recovery", t)
		} else {
			err = touched(update.ExecContext(ctx, t.Secrets, t.Recovery, t.Step, t.Skew, t.UsedAt, t.UsedOn, t.ID))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// FactorsInCommon is the kind of what the second factors of a person have in common.
const FactorsInCommon = "person"

const factorColumns = "id, store, name, display, label, algorithm, digits, period, secrets, recovery, confirmed, " +
	"step, skew, made_at, made_by, used_at, used_on, kind"

const selectFactorToken = "SELECT " + factorColumns + " FROM "

// FactorTokenByID returns one token; ErrNotFound if there is none.
func (s Factors) FactorTokenByID(ctx context.Context, id string) (FactorToken, error) {
	var out FactorToken
	err := s.db.GetContext(ctx, &out, selectFactorToken+s.table+" WHERE id = ?", id)
	return out, notFound(err)
}
