using Vestige.Core.Schemas;

namespace Vestige.Engine.Spooling;

/// <summary>
/// The forms under which spooled rows were written, by number; a number stands for one form for ever. Safe for several threads.
/// </summary>
internal sealed class SpooledSchemas
{
    private readonly Lock gate = new();
    private Dictionary<int, TableSchema> forms = [];

    /// <summary>All of them, as of now.</summary>
    public Dictionary<int, TableSchema> All
    {
        get
        {
            lock (gate)
            {
                return new Dictionary<int, TableSchema>(forms);
            }
        }
    }

    /// <summary>Throws <see cref="InvalidDataException"/> for a number that was never given.</summary>
    public TableSchema Of(int number)
    {
        lock (gate)
        {
            return forms.TryGetValue(number, out var table)
                ? table
                : throw new InvalidDataException($"The spool does not know relation {number}.");
        }
    }

    /// <summary>False when the number is known already.</summary>
    public bool TryAdd(int number, TableSchema table)
    {
        lock (gate)
        {
            return forms.TryAdd(number, table);
        }
    }

    public void Replace(Dictionary<int, TableSchema> found)
    {
        lock (gate)
        {
            forms = found;
        }
    }
}
