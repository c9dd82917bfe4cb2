// Package store keeps programs, builds, takes and their figures in
// PostgreSQL. Every change is one transaction: a take is there whole or not
// at all.
//
// Many goroutines may use a Store; what guards its records is the database. Its one lock is
// about whether free space can be asked for.
package store

import (
	"time"

	"entelon/core/profile"
)

// Program is a thing that is measured, by name.
type Program struct {
	ID        int64 `gorm:"primaryKey"`
	Name      string
	CreatedAt time.Time
}

// Build is one version of a program's code.
type Build struct {
	ID        int64 `gorm:"primaryKey"`
	ProgramID int64
	Name      string
	Identity  string // the linker's, of the binary, hexadecimal, "" if unknown
	Revision  string // of the version control, "" if unknown
	CreatedAt time.Time
}

// Take is one bounded collection. The columns repeat what lists show and sort
// by; settings, machine and facts are kept whole beside them.
type Take struct {
	ID            int64 `gorm:"primaryKey"`
	Key           string
	ProgramID     int64
	BuildID       int64
	Digest        string // SHA-256 of the file, hexadecimal
	Size          int64  // of the file, in bytes
	StartedAt     time.Time
	AddedAt       time.Time
	DurationNS    int64 `gorm:"column:duration_ns"`
	CPUNS         int64 `gorm:"column:cpu_ns"`
	Samples       int64
	Lost          int64
	RateHz        int
	CompleteShare float64
	Warnings      int
	Memory        int64 // bytes that it needs when it is opened; 0: not known
	Figured       bool  // the figures of all measures are kept, not of the first alone
	Note          string
	Pinned        bool             // stays when old ones are removed
	WorkloadID    *int64           // in which it counts
	FoundID       *int64           // in which it would count if nobody had moved or merged anything
	Moved         bool             // somebody put it where it counts
	Settings      profile.Settings `gorm:"serializer:document"`
	Machine       profile.Machine  `gorm:"serializer:document"`
	Facts         profile.Facts    `gorm:"serializer:document"`
	// Outline is nil in takes that were kept before it was.
	Outline *profile.Outline `gorm:"serializer:document"`

	// Broken says what of this row cannot be read, "" for nothing.
	Broken string `gorm:"-"`

	Program  Program   `gorm:"foreignKey:ProgramID"`
	Build    Build     `gorm:"foreignKey:BuildID"`
	Workload *Workload `gorm:"foreignKey:WorkloadID"`
}

// InWorkload is the number of the workload in which the take counts; 0 for none yet.
func (t *Take) InWorkload() int64 {
	if t.WorkloadID == nil {
		return 0
	}
	return *t.WorkloadID
}

// TakeBlob is a piece of a take's file; the pieces in order are the file.
type TakeBlob struct {
	TakeID int64 `gorm:"primaryKey"`
	Seq    int   `gorm:"primaryKey"`
	Data   []byte
}

// Function is a function of a program, the same in all its takes.
type Function struct {
	ID        int64 `gorm:"primaryKey"`
	ProgramID int64
	Name      string
	Module    string // where it is at home: "" for the program's own code, else the library's name
}

// TakeMeasure is a measure that a take has, with what it comes to.
type TakeMeasure struct {
	TakeID   int64 `gorm:"primaryKey"`
	Position int   `gorm:"primaryKey"` // in the take: 0 is the one that is shown first
	Name     string
	Unit     string
	Level    bool
	Counted  bool
	Total    int64 // in the unit
	Samples  int64 // that are of this measure
}

// FunctionFigure is what one function cost in one take.
type FunctionFigure struct {
	TakeID       int64 `gorm:"primaryKey"`
	Measure      int   `gorm:"primaryKey"` // position of the measure in the take
	FunctionID   int64 `gorm:"primaryKey"`
	Self         int64 // in the measure's unit
	Total        int64
	SelfSamples  int64
	TotalSamples int64
}
