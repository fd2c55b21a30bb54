using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace Vestige.Connectors.StandIn.Native;

/// <summary>
/// Connections for short reads, kept open: one that is opened reads the whole catalogue again, which takes a second with thousands of
/// tables. A read leaves no transaction open. Safe for several threads.
/// </summary>
internal sealed class KeptReaders(Func<SqliteConnection> open) : IDisposable
{
    private const int MostKept = 2;
    private readonly Stack<SqliteConnection> idle = new();
    private readonly Lock gate = new();
    private bool isClosed;

    /// <summary>Reads on a connection of its own for that time. One on which a read failed is not used again.</summary>
    public T Read<T>(Func<sqlite3, T> read)
    {
        var reader = Take() ?? open();
        try
        {
            var found = read(reader.Handle!);
            Return(reader);
            return found;
        }
        catch
        {
            reader.Dispose();
            throw;
        }
    }

    public void Dispose()
    {
        lock (gate)
        {
            isClosed = true;
            while (idle.TryPop(out var reader))
            {
                reader.Dispose();
            }
        }
    }

    private SqliteConnection? Take()
    {
        lock (gate)
        {
            return idle.TryPop(out var reader) ? reader : null;
        }
    }

    private void Return(SqliteConnection reader)
    {
        lock (gate)
        {
            if (!isClosed && idle.Count < MostKept)
            {
                idle.Push(reader);
                return;
            }
        }

        reader.Dispose();
    }
}
