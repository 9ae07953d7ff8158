package mysql

import (
	"errors"
	"fmt"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// The numbers of errors (mariadb.com/kb/en/mariadb-error-codes, dev.mysql.com/doc/mysql-errors/8.0/en).
const (
	errChanged           = 1020 // a row, since the snapshot was made
	errDiskFull          = 1021
	errNotReady          = 1047 // of a node of a cluster
	errTableFull         = 1114
	errInCommit          = 1180
	errNoSavepoint       = 1305
	errDatabaseDenied    = 1044
	errAccessDenied      = 1045
	errTableDenied       = 1142
	errColumnDenied      = 1143
	errPrivilegeMissing  = 1227
	errAccessDeniedNoPwd = 1698
	errUnknownDatabase   = 1049
	errLockWaitTimeout   = 1205
	errDeadlock          = 1213
	errServerOption      = 1290 // read_only and the like
	errReadOnlyTx        = 1792
	errReadOnlyServer    = 1836

	errNull             = 1048
	errDuplicateKey     = 1062
	errOutOfRange       = 1264
	errTruncated        = 1265
	errWrongValue       = 1292
	errNoDefault        = 1364
	errWrongFieldValue  = 1366
	errTooLong          = 1406
	errWrongFunction    = 1411
	errReferenced       = 1451
	errNoParent         = 1452
	errWrongDateTime    = 1525
	errSignal           = 1644 // of a trigger
	errNumberOutOfRange = 1690
	errJSON             = 3140
	errJSONBinary       = 3141
	errCheckMySQL       = 3819
	errCheckMariaDB     = 4025
)

// rowErrors are the errors that are about a row.
var rowErrors = map[uint16]bool{errNull: true, errDuplicateKey: true, errOutOfRange: true, errTruncated: true,
	errWrongValue: true, errNoDefault: true, errWrongFieldValue: true, errTooLong: true, errWrongFunction: true,
	errReferenced: true, errNoParent: true, errWrongDateTime: true, errSignal: true, errNumberOutOfRange: true,
	errJSON: true, errJSONBinary: true, errCheckMySQL: true, errCheckMariaDB: true}

// rejects reports whether an error is about a row.
func rejects(err error) bool {
	var said *mysql.MySQLError
	return errors.Is(err, errWarned) || errors.As(err, &said) && rowErrors[said.Number]
}

// words returns what an error of the server means to people, and what to do.
func words(e *mysql.MySQLError) (what, do string) {
	switch e.Number {
	case errAccessDenied, errAccessDeniedNoPwd:
		return "the server refuses the login: " + e.Message, "check the user and the password"
	case errUnknownDatabase:
		return e.Message, "check the name of the database in the URL"
	case errDatabaseDenied, errTableDenied, errColumnDenied, errPrivilegeMissing:
		return "this user lacks a privilege: " + e.Message, "ask for the privilege, or use another user"
	case errLockWaitTimeout:
		return "a table is locked by another session", "try again when that session is done"
	case errDeadlock:
		return "another session changed the same rows at the same time: " + e.Message, "nothing was changed; load again"
	case errChanged:
		return "another session changed rows that were read before", "nothing was changed; load again"
	case errNotReady:
		return "this node of the cluster is cut off from most of the others, and takes no statements: " + e.Message,
			"connect to another node of the cluster, or name several of them: mysql://USER@HOST,HOST/DATABASE"
	case errInCommit:
		if strings.HasPrefix(e.Message, "wsrep_max_ws_") {
			return "the transaction is too large for the cluster: " + e.Message, "load the file in several, or have the limit raised"
		}
	case errServerOption, errReadOnlyTx, errReadOnlyServer:
		return "the database can't be written to: " + e.Message, "connect to a server that accepts writes"
	case errDiskFull, errTableFull:
		return "the server's disk is full", "free some space and load again"
	}
	return fmt.Sprintf("the database failed: %s (%d)", e.Message, e.Number), ""
}
