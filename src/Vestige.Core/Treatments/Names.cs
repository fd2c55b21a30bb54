using System.Text;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Names that a person gives to what is on the target.</summary>
public static class Names
{
    /// <summary>Reads <c>schema.table</c>; null when it is not one.</summary>
    public static TableName? Parse(string? text)
    {
        var dot = text?.IndexOf('.', StringComparison.Ordinal) ?? -1;
        return dot > 0 && dot < text!.Length - 1 ? new TableName(text[..dot], text[(dot + 1)..]) : null;
    }

    /// <summary>Whether a name has more bytes than the engine takes.</summary>
    public static bool IsTooLong(string name, int? longest) => longest is { } most && Encoding.UTF8.GetByteCount(name) > most;
}
