using Vestige.Connectors.StandIn.Log;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;

namespace Vestige.Connectors.StandIn;

/// <summary>One transaction through the door of a stand-in. Dispose it always; without a commit it is rolled back.</summary>
public sealed class StandInTransaction : IDisposable
{
    private readonly StandInDatabase database;
    private bool committed;
    private bool left;
    private BufferSavepoint? mark;

    internal StandInTransaction(StandInDatabase database) => this.database = database;

    internal StandInDatabase Database => database;

    /// <summary>Runs statements without parameters, from our own code or a test, one after the other.</summary>
    public void Run(string statement)
    {
        if (SchemaStatement.TableOf(statement) is not null)
        {
            database.RunFormChange(statement);
        }
        else
        {
            database.Run(statement);
            database.AfterStatement(onlyMakes: !statement.TrimEnd(';', ' ', '\n').Contains(';', StringComparison.Ordinal));
        }
    }

    /// <summary>Runs statements each of which creates one table and does nothing else. The log notes them after the last.</summary>
    internal void CreateAll(IReadOnlyList<string> statements)
    {
        foreach (var statement in statements)
        {
            database.Run(statement);
        }

        database.AfterStatement(onlyMakes: true);
    }

    /// <summary>Runs a prepared statement with values, and returns how many rows it changed.</summary>
    public int Run(string statement, params ReadOnlySpan<object?> values)
    {
        var prepared = Bound(statement, values);
        prepared.Run();
        return SQLitePCL.raw.sqlite3_changes(database.Handle);
    }

    /// <summary>Runs a prepared query with values and returns all its rows.</summary>
    public IReadOnlyList<Row> Query(string statement, params ReadOnlySpan<object?> values)
    {
        var prepared = Bound(statement, values);
        var rows = new List<Row>();
        var writer = new RowWriter();
        try
        {
            while (prepared.Step())
            {
                prepared.WriteRow(writer, prepared.Columns);
                rows.Add(writer.ToRow());
            }
        }
        finally
        {
            prepared.Reset();
        }

        return rows;
    }

    private Statement Bound(string statement, ReadOnlySpan<object?> values)
    {
        var prepared = database.Prepared(statement);
        for (var i = 0; i < values.Length; i++)
        {
            switch (values[i])
            {
                case null:
                    prepared.Bind(i + 1, (string?)null);
                    break;
                case long or int:
                    prepared.Bind(i + 1, Convert.ToInt64(values[i]));
                    break;
                case byte[] bytes:
                    prepared.Bind(i + 1, bytes);
                    break;
                default:
                    prepared.Bind(i + 1, values[i]!.ToString());
                    break;
            }
        }

        return prepared;
    }

    internal Statement Prepared(string sql) => database.Prepared(sql);

    /// <summary>Marks the place to which <see cref="BackToSavepoint"/> goes back; an earlier mark is given up.</summary>
    internal void Mark()
    {
        if (mark is not null)
        {
            database.Run("RELEASE row_mark");
        }

        database.Run("SAVEPOINT row_mark");
        mark = database.Buffer.Mark();
    }

    /// <summary>Takes back, in the tables and in the log to be written, what was done since the mark.</summary>
    internal void BackToSavepoint()
    {
        database.Run("ROLLBACK TO row_mark");
        database.Buffer.CutBack(mark!.Value);
    }

    /// <summary>Writes the log and commits, both or neither.</summary>
    public void Commit()
    {
        database.Commit();
        committed = true;
    }

    internal void CommitFilled()
    {
        database.CommitFilled();
        committed = true;
    }

    public void Dispose()
    {
        if (left)
        {
            return;
        }

        left = true;
        try
        {
            if (!committed)
            {
                database.Rollback();
            }
        }
        finally
        {
            database.Leave();
        }
    }
}
