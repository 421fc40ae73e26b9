/** The service's settings in force, and where each comes from. */

import { useSettings } from "../api/people";
import { Card, ErrorNote, Shape, Tag } from "../parts/ui";

export function SettingsPage() {
  const settings = useSettings();
  return (
    <Card title="Settings in force" aside="changed on the service's own machine">
      {settings.isPending && <Shape className="h-96" />}
      {settings.isError && <ErrorNote error={settings.error} again={() => void settings.refetch()} />}
      <dl className="divide-y divide-line">
        {settings.data?.map((one) => (
          <div key={one.name} className="grid gap-x-4 gap-y-0.5 py-2.5 text-sm md:grid-cols-[15rem_1fr_auto]">
            <dt className="break-all font-mono text-xs leading-6">{one.name}</dt>
            <dd className="min-w-0">
              <span className="block break-all font-semibold">{one.value}</span>
              <span className="block text-quiet">{one.meaning}</span>
            </dd>
            <dd className="self-center">
              {one.origin === "default" ? (
                <span className="text-xs text-quiet">as usual</span>
              ) : (
                <Tag state="new">{one.origin}</Tag>
              )}
            </dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}
