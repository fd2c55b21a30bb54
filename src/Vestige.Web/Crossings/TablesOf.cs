using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Crossings;

/// <summary>Finds the tables of a crossing by the names under which they are shown.</summary>
public static class TablesOf
{
    /// <summary>
    /// The table of that name, or what the text says where the crossing has none. Throws <see cref="RequestRefusedException"/> for what is
    /// no name of a table.
    /// </summary>
    public static TableName Named(CrossingStatus? status, string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (status?.Tables.FirstOrDefault(table => table.Source.ToString() == text) is { } known)
        {
            return known.Source;
        }

        try
        {
            return TableName.Parse(text);
        }
        catch (FormatException exception)
        {
            throw new RequestRefusedException(exception.Message, exception) { Remedy = "Name a table of the crossing as schema.table." };
        }
    }
}
