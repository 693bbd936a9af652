package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

type serverRow struct {
	ID           uint64
	Name         string
	Engine       string
	Host         string
	Port         int
	Admin        string
	Options      catalog.Values `gorm:"serializer:json"`
	Clients      []string       `gorm:"column:client_addresses;serializer:json"`
	Environment  string
	Labels       map[string]string `gorm:"serializer:json"`
	TLS          string            `gorm:"column:tls"`
	CA           string            `gorm:"column:ca"`
	NameRule     naming.Rule       `gorm:"serializer:json"`
	Keeping      catalog.Keeping   `gorm:"serializer:json"`
	Identity     catalog.Identity  `gorm:"serializer:json"`
	SealedSecret []byte
	RowVersion   int
	CreatedAt    time.Time
	UpdatedAt    time.Time
}

func (serverRow) TableName() string { return "servers" }

func serverFrom(r serverRow) catalog.Server {
	return catalog.Server{ID: r.ID, Name: r.Name, Engine: catalog.Engine(r.Engine), Host: r.Host, Port: r.Port,
		Admin:   r.Admin,
		Options: r.Options, Clients: r.Clients, Environment: catalog.Environment(r.Environment), Labels: r.Labels,
		TLS: catalog.TLSMode(r.TLS),
		CA:  r.CA, NameRule: r.NameRule, Keeping: r.Keeping,
		Identity: r.Identity, Version: r.RowVersion, Created: r.CreatedAt,
		Updated: r.UpdatedAt}
}

func rowFrom(s catalog.Server) serverRow {
	if s.Labels == nil {
		s.Labels = map[string]string{}
	}
	if s.Options == nil {
		s.Options = catalog.Values{}
	}
	if s.Clients == nil {
		s.Clients = []string{}
	}
	return serverRow{ID: s.ID, Name: s.Name, Engine: string(s.Engine), Host: s.Host, Port: s.Port, Admin: s.Admin,
		Options: s.Options, Clients: s.Clients, Environment: string(s.Environment), Labels: s.Labels,
		TLS: string(s.TLS), CA: s.CA,
		NameRule: s.NameRule, Keeping: s.Keeping, Identity: s.Identity, RowVersion: s.Version, CreatedAt: s.Created}
}

// AddServer registers a server with its sealed secret; ErrExists if the name
// is taken.
func (s *Store) AddServer(ctx context.Context, srv catalog.Server, password secret.Text,
	entry journal.Entry) (catalog.Server, error) {
	row := rowFrom(srv)
	row.RowVersion = 1
	var err error
	if row.SealedSecret, err = s.seal(password, boundServer(srv.Name)); err != nil {
		return srv, err
	}
	err = s.update(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return s.appendJournal(tx, entry)
	})
	return serverFrom(row), err
}

// maxServers bounds a list of servers.
const maxServers = 5000

// Servers lists all registered servers by name.
func (s *Store) Servers(ctx context.Context) ([]catalog.Server, error) {
	var rows []serverRow
	err := s.db.WithContext(ctx).Order("name").Limit(maxServers).Find(&rows).Error
	out := make([]catalog.Server, len(rows))
	for i, r := range rows {
		out[i] = serverFrom(r)
	}
	return out, translate(err)
}

// Server reads one registered server; ErrNotFound if there is none.
func (s *Store) Server(ctx context.Context, name string) (catalog.Server, error) {
	var row serverRow
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&row).Error
	return serverFrom(row), translate(err)
}

// Secret opens the admin secret of a server.
func (s *Store) Secret(ctx context.Context, name string) (secret.Text, error) {
	var row serverRow
	if err := s.db.WithContext(ctx).Select("name", "sealed_secret").Where("name = ?", name).Take(&row).
		Error; err != nil {
		return secret.Text{}, translate(err)
	}
	return s.unseal(row.SealedSecret, boundServer(row.Name),
		"the secret of %s; give it again: genarch server edit %s --secret-file FILE", row.Name, row.Name)
}

// UpdateServer writes a server back if nobody else did since it was read
// (ErrStale); password is nil to leave the secret as it is.
func (s *Store) UpdateServer(ctx context.Context, srv catalog.Server, password *secret.Text,
	entry journal.Entry) error {
	row := rowFrom(srv)
	row.RowVersion++
	columns := []string{"Host", "Port", "Admin", "Options", "Clients", "Environment", "Labels", "TLS", "CA", "NameRule",
		"Keeping", "Identity", "RowVersion", "UpdatedAt"}
	if password != nil {
		var err error
		if row.SealedSecret, err = s.seal(*password, boundServer(srv.Name)); err != nil {
			return err
		}
		columns = append(columns, "SealedSecret")
	}
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Model(&row).Select(columns).Where("name = ? AND row_version = ?", srv.Name, srv.Version).Updates(&row)
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrStale
		}
		return s.appendJournal(tx, entry)
	})
}

// ForgetServer removes a registration and its secret; nothing on the server
// itself is touched, and its changes stay.
func (s *Store) ForgetServer(ctx context.Context, name string, entry journal.Entry) error {
	return s.update(ctx, func(tx *gorm.DB) error {
		res := tx.Where("name = ?", name).Delete(&serverRow{})
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return record.ErrNotFound
		}
		return s.appendJournal(tx, entry)
	})
}
