using System.Text;
using System.Text.RegularExpressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Names that a person gives to what is on the target.</summary>
public static partial class Names
{
    /// <summary>
    /// Whether a text has the form of a type's name: words, perhaps with a schema and one or two numbers in parentheses. It stands
    /// in statements as it is, so nothing else is let through; whether there is such a type, the target says.
    /// </summary>
    public static bool IsTypeName(string text) => TypeName().IsMatch(text);

    /// <summary>Reads <c>schema.table</c>; null when it is not one.</summary>
    public static TableName? Parse(string? text)
    {
        var dot = text?.IndexOf('.', StringComparison.Ordinal) ?? -1;
        return dot > 0 && dot < text!.Length - 1 ? new TableName(text[..dot], text[(dot + 1)..]) : null;
    }

    /// <summary>Whether a name has more bytes than the engine takes.</summary>
    public static bool IsTooLong(string name, int? longest) => longest is { } most && Encoding.UTF8.GetByteCount(name) > most;

    [GeneratedRegex(
        @"^[A-Za-z_][\w ]*(\.[A-Za-z_][\w ]*)?( ?\( ?-?[0-9]{1,5}( ?, ?-?[0-9]{1,5})? ?\))?( with(out)? time zone)?( ?\[\])*\z",
        RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex TypeName();
}
