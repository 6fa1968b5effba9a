package apitype

// BackupInput asks for a backup.
type BackupInput struct {
	Passphrase string `json:"passphrase" maxLength:"500" doc:"It encrypts the backup; nobody can open that without it"`
	WithoutKey bool   `json:"withoutKey,omitempty" doc:"Leave the key file out; whoever restores must have it from elsewhere"`
}
