using SQLitePCL;
using Vestige.Core.Changes;

namespace Vestige.Connectors.StandIn.Native;

/// <summary>A prepared statement, bound and read without making objects of the values. One thread at a time.</summary>
internal sealed class Statement : IDisposable
{
    private readonly sqlite3 database;
    private readonly sqlite3_stmt handle;
    private readonly string where;

    public Statement(sqlite3 database, string sql, string where)
    {
        this.database = database;
        this.where = where;
        var code = raw.sqlite3_prepare_v2(database, sql, out handle);
        if (code != raw.SQLITE_OK)
        {
            throw SqliteFailure.Of(database, code, where);
        }
    }

    public int Columns => raw.sqlite3_column_count(handle);

    /// <summary>Binds by 1-based index.</summary>
    public Statement Bind(int index, long value)
    {
        _ = raw.sqlite3_bind_int64(handle, index, value);
        return this;
    }

    public Statement Bind(int index, string? value)
    {
        _ = value is null ? raw.sqlite3_bind_null(handle, index) : raw.sqlite3_bind_text(handle, index, value);
        return this;
    }

    public Statement Bind(int index, ReadOnlySpan<byte> value)
    {
        _ = value.IsEmpty ? raw.sqlite3_bind_zeroblob(handle, index, 0) : raw.sqlite3_bind_blob(handle, index, value);
        return this;
    }

    /// <summary>Binds one value of a row.</summary>
    public void Bind(int index, Row row, int column)
    {
        switch (row.KindAt(column))
        {
            case ValueKind.Null:
                _ = raw.sqlite3_bind_null(handle, index);
                break;
            case ValueKind.Integer:
                _ = raw.sqlite3_bind_int64(handle, index, row.IntegerAt(column));
                break;
            case ValueKind.Real:
                _ = raw.sqlite3_bind_double(handle, index, row.RealAt(column));
                break;
            case ValueKind.Text:
                var text = row.ValueAt(column);
                _ = text.IsEmpty ? raw.sqlite3_bind_text(handle, index, "") : raw.sqlite3_bind_text(handle, index, text);
                break;
            case ValueKind.Bytes:
                Bind(index, row.ValueAt(column));
                break;
            default:
                throw new InvalidDataException("A value that the log did not carry cannot be written.");
        }
    }

    /// <summary>Steps and returns SQLite's code: row, done, or an error.</summary>
    public int TryStep() => raw.sqlite3_step(handle);

    /// <summary>True when there is a row; throws on an error.</summary>
    public bool Step()
    {
        var code = raw.sqlite3_step(handle);
        return code switch
        {
            raw.SQLITE_ROW => true,
            raw.SQLITE_DONE => false,
            _ => throw Failed(code),
        };
    }

    /// <summary>Runs to the end and makes the statement ready again.</summary>
    public void Run()
    {
        try
        {
            while (Step())
            {
                // Rows are of no interest here.
            }
        }
        finally
        {
            Reset();
        }
    }

    public void Reset() => _ = raw.sqlite3_reset(handle);

    public bool IsNull(int column) => raw.sqlite3_column_type(handle, column) == raw.SQLITE_NULL;

    public long Integer(int column) => raw.sqlite3_column_int64(handle, column);

    public string Text(int column) => raw.sqlite3_column_text(handle, column).utf8_to_string();

    public byte[] Bytes(int column) => raw.sqlite3_column_blob(handle, column).ToArray();

    /// <summary>Writes the columns from one index on as a row.</summary>
    public void WriteRow(RowWriter writer, int count, int from = 0)
    {
        writer.Begin(count);
        for (var i = 0; i < count; i++)
        {
            switch (raw.sqlite3_column_type(handle, from + i))
            {
                case raw.SQLITE_NULL:
                    writer.Null();
                    break;
                case raw.SQLITE_INTEGER:
                    writer.Integer(raw.sqlite3_column_int64(handle, from + i));
                    break;
                case raw.SQLITE_FLOAT:
                    writer.Real(raw.sqlite3_column_double(handle, from + i));
                    break;
                case raw.SQLITE_TEXT:
                    writer.Value(ValueKind.Text, raw.sqlite3_column_blob(handle, from + i));
                    break;
                default:
                    writer.Value(ValueKind.Bytes, raw.sqlite3_column_blob(handle, from + i));
                    break;
            }
        }
    }

    public Exception Failed(int code) => SqliteFailure.Of(database, code, where);

    public void Dispose() => handle.Dispose();
}
