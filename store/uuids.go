package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
)

// teachUUIDs has a connection send UUIDs in binary. Without it, each of a list goes by way of its driver.Valuer and its text, which for a
// list of 2,000 takes longer than the question it is for.
func teachUUIDs(_ context.Context, c *pgx.Conn) error {
	m := c.TypeMap()
	m.TryWrapEncodePlanFuncs = append([]pgtype.TryWrapEncodePlanFunc{wrapUUID}, m.TryWrapEncodePlanFuncs...)
	return nil
}

func wrapUUID(value any) (pgtype.WrappedEncodePlanNextSetter, any, bool) {
	id, ok := value.(uuid.UUID)
	if !ok {
		return nil, nil, false
	}
	return &uuidPlan{}, sentUUID(id), true
}

// uuidPlan hands a UUID on to the plan for a sentUUID.
type uuidPlan struct{ next pgtype.EncodePlan }

func (p *uuidPlan) SetNext(next pgtype.EncodePlan) { p.next = next }

func (p *uuidPlan) Encode(value any, buf []byte) ([]byte, error) {
	return p.next.Encode(sentUUID(value.(uuid.UUID)), buf)
}

// sentUUID is a UUID as pgx sends it.
type sentUUID uuid.UUID

// UUIDValue implements pgtype.UUIDValuer.
func (id sentUUID) UUIDValue() (pgtype.UUID, error) { return pgtype.UUID{Bytes: id, Valid: true}, nil }
