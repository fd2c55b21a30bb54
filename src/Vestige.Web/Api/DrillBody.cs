using System.Text.Json.Serialization;

namespace Vestige.Web.Api;

/// <summary>What goes with a drill, by name, as its document lists it.</summary>
public sealed record DrillBody([property: JsonConverter(typeof(SettingText))] Dictionary<string, string>? Values = null);
