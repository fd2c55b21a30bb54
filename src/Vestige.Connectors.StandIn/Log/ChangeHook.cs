using System.Runtime.CompilerServices;
using System.Runtime.ExceptionServices;
using System.Runtime.InteropServices;
using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// Sees every row that any statement on the door's connection inserts, updates, replaces or deletes, cascades included,
/// and writes it to the open transaction's buffer. Used on the thread that runs the statement.
/// </summary>
internal sealed unsafe class ChangeHook : IDisposable
{
    private readonly nint database;
    private readonly Relations relations;
    private readonly ChangeBuffer buffer;
    private readonly RowWriter before = new();
    private readonly RowWriter after = new();
    private readonly Dictionary<nint, int> numbers = [];
    private GCHandle self;
    private ExceptionDispatchInfo? failure;

    public ChangeHook(sqlite3 database, Relations relations, ChangeBuffer buffer)
    {
        this.database = database.DangerousGetHandle();
        this.relations = relations;
        this.buffer = buffer;
        self = GCHandle.Alloc(this);
        PreUpdate.sqlite3_preupdate_hook(this.database, &Changed, GCHandle.ToIntPtr(self));
    }

    /// <summary>Rows of these tables are not logged: the statement at hand changes the table's form or drops it.</summary>
    public HashSet<string> Silenced { get; } = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>Table names are known by address only as long as the schema stays.</summary>
    public void ForgetNames() => numbers.Clear();

    /// <summary>Throws what went wrong while a row was logged; the transaction must not commit then.</summary>
    public void ThrowIfFailed()
    {
        var thrown = failure;
        failure = null;
        thrown?.Throw();
    }

    public void Dispose()
    {
        PreUpdate.sqlite3_preupdate_hook(database, null, 0);
        self.Free();
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static void Changed(nint context, nint database, int operation, byte* schema, byte* table, long oldRow, long newRow)
    {
        var hook = (ChangeHook)GCHandle.FromIntPtr(context).Target!;
        try
        {
            hook.Take(operation, (nint)table);
        }
        catch (Exception exception)
        {
            // Nothing may be thrown through the library; the door looks here before it commits.
            hook.failure ??= ExceptionDispatchInfo.Capture(exception);
        }
    }

    private void Take(int operation, nint table)
    {
        if (!numbers.TryGetValue(table, out var number))
        {
            var name = Marshal.PtrToStringUTF8(table)!;
            number = TableCatalogue.IsOwn(name) ? 0 : relations.NumberOf(name);
            if (Silenced.Contains(name))
            {
                return;
            }

            numbers.Add(table, number);
        }

        if (number == 0 || (Silenced.Count > 0 && Silenced.Contains(Marshal.PtrToStringUTF8(table)!)))
        {
            return;
        }

        switch (operation)
        {
            case raw.SQLITE_INSERT:
                ChangeWriter.Write(buffer.Writer, ChangeKind.Insert, number, default, Read(after, old: false));
                break;
            case raw.SQLITE_UPDATE:
                ChangeWriter.Write(buffer.Writer, ChangeKind.Update, number, Read(before, old: true), Read(after, old: false));
                break;
            default:
                ChangeWriter.Write(buffer.Writer, ChangeKind.Delete, number, Read(before, old: true), default);
                break;
        }

        buffer.Wrote();
    }

    private ReadOnlySpan<byte> Read(RowWriter writer, bool old)
    {
        var count = PreUpdate.sqlite3_preupdate_count(database);
        writer.Begin(count);
        for (var i = 0; i < count; i++)
        {
            nint value;
            var code = old ? PreUpdate.sqlite3_preupdate_old(database, i, &value) : PreUpdate.sqlite3_preupdate_new(database, i, &value);
            if (code != raw.SQLITE_OK)
            {
                throw new InvalidOperationException($"The value of column {i} could not be read (SQLite {code}).");
            }

            Write(writer, value);
        }

        return writer.Finish();
    }

    private static void Write(RowWriter writer, nint value)
    {
        switch (PreUpdate.sqlite3_value_type(value))
        {
            case raw.SQLITE_NULL:
                writer.Null();
                break;
            case raw.SQLITE_INTEGER:
                writer.Integer(PreUpdate.sqlite3_value_int64(value));
                break;
            case raw.SQLITE_FLOAT:
                writer.Real(PreUpdate.sqlite3_value_double(value));
                break;
            case raw.SQLITE_TEXT:
                var text = PreUpdate.sqlite3_value_text(value);
                writer.Value(ValueKind.Text, new ReadOnlySpan<byte>(text, PreUpdate.sqlite3_value_bytes(value)));
                break;
            default:
                var bytes = PreUpdate.sqlite3_value_blob(value);
                writer.Value(ValueKind.Bytes, new ReadOnlySpan<byte>(bytes, PreUpdate.sqlite3_value_bytes(value)));
                break;
        }
    }
}
