package records

import "context"

// Connection is another PostgreSQL database. The address holds its secret.
type Connection struct{ Name, URL string }

// Connections lists them by name.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	return all[Connection](s.Pool.Query(ctx, "SELECT name, url FROM connections ORDER BY name"))
}

// Connection returns one by its name, or ErrNotFound.
func (s *Store) Connection(ctx context.Context, name string) (Connection, error) {
	return one[Connection](s.Pool.Query(ctx, "SELECT name, url FROM connections WHERE name = $1", name))
}

// SetConnection records a connection, over one of the same name.
func (s *Store) SetConnection(ctx context.Context, c Connection) error {
	_, err := s.Pool.Exec(ctx, "INSERT INTO connections (name, url) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET url = excluded.url", c.Name, c.URL)
	return err
}

// DropConnection forgets a connection, or is ErrNotFound.
func (s *Store) DropConnection(ctx context.Context, name string) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM connections WHERE name = $1", name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}
