using System.Text.Json.Serialization;
using Vestige.Core.Readiness;

namespace Vestige.Web.Api;

/// <summary>A readiness line as the API shows it; <paramref name="Took"/> in seconds.</summary>
public sealed record ReadinessView(
    string Step,
    bool Ok,
    double Took,
    string Found,
    string Needed,
    string? Remedy,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Loses = null
)
{
    public static ReadinessView Of(ReadinessCheck line)
    {
        ArgumentNullException.ThrowIfNull(line);
        return new ReadinessView(line.Step, line.Ok, line.Took.TotalSeconds, line.Found, line.Needed, line.Remedy, line.Loses);
    }
}
