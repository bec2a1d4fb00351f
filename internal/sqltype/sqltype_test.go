package sqltype

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for in, want := range map[string]string{
		"integer": "integer", "INT": "integer", "Decimal( 8 , 2 )": "decimal(8,2)", "numeric(5)": "decimal(5,0)",
		"varchar(40)": "varchar(40)", "character varying (3)": "varchar(3)", "char": "char(1)",
		"timestamp": "timestamp(6)", "timestamp(0)": "timestamp(0)", "timestamp with time zone": "timestamp(6) with time zone",
		"timestamp(3) with time zone": "timestamp(3) with time zone", "double precision": "double precision", "uuid": "uuid",
	} {
		got, err := Parse(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got.String())
		again, err := Parse(got.String())
		require.NoError(t, err)
		assert.Equal(t, got, again)
	}
	for _, in := range []string{"", "none", "decimal", "decimal(39,1)", "decimal(2,3)", "varchar", "varchar(0)", "varchar(3,4)",
		"integer(4)", "time(7)", "date with time zone", "int; drop table x", "varchar(4", "varchar(4))",
		"varchar (4) x", "varchar()", "varchar(,)", "decimal(4,)", "decimal(4 4)", "varchar(-4)", "varchar(1234567890)", "(4)"} {
		_, err := Parse(in)
		assert.Error(t, err, in)
	}
}
