using Vestige.Core.Changes;

namespace Vestige.Core.Tests;

/// <summary>Rows whose values are texts, as some engines' are.</summary>
public static class TextRow
{
    /// <summary>What stands for a value that the log left out.</summary>
    public const string Absent = "\u0001absent";

    /// <summary>A row; null for NULL.</summary>
    public static Row Of(params string?[] values)
    {
        ArgumentNullException.ThrowIfNull(values);
        var writer = new RowWriter();
        writer.Begin(values.Length);
        foreach (var value in values)
        {
            switch (value)
            {
                case null:
                    writer.Null();
                    break;
                case Absent:
                    writer.Absent();
                    break;
                default:
                    writer.Text(value);
                    break;
            }
        }

        return writer.ToRow();
    }
}
