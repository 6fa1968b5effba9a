import { closestCenter, DndContext, KeyboardSensor, PointerSensor, useSensor, useSensors } from "@dnd-kit/core";
import {
  arrayMove,
  SortableContext,
  sortableKeyboardCoordinates,
  useSortable,
  verticalListSortingStrategy,
} from "@dnd-kit/sortable";
import type { CSSProperties, ReactNode } from "react";

/** A list whose entries can be moved by dragging their handle, or by the keyboard: space lifts, arrows move, space drops. */
export function Sortable<T extends { id: string }>({
  items,
  onMove,
  children,
}: {
  items: T[];
  onMove: (next: T[]) => void;
  children: ReactNode;
}) {
  const sensors = useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 4 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  );
  return (
    <DndContext
      sensors={sensors}
      collisionDetection={closestCenter}
      onDragEnd={({ active, over }) => {
        if (!over || active.id === over.id) return;
        onMove(
          arrayMove(
            items,
            items.findIndex((i) => i.id === active.id),
            items.findIndex((i) => i.id === over.id),
          ),
        );
      }}
    >
      <SortableContext items={items} strategy={verticalListSortingStrategy}>
        {children}
      </SortableContext>
    </DndContext>
  );
}

export function useMovable(id: string, name: string) {
  const s = useSortable({ id });
  const style: CSSProperties = {
    transform: s.transform ? `translate(0, ${s.transform.y}px)` : undefined,
    transition: s.transition,
    opacity: s.isDragging ? 0.6 : 1,
    position: "relative",
    zIndex: s.isDragging ? 1 : undefined,
  };
  const handle = (
    <button
      type="button"
      {...s.attributes}
      {...s.listeners}
      aria-label={`Move ${name}`}
      className="cursor-grab touch-none px-0.5 text-soft hover:text-ink"
    >
      ⠿
    </button>
  );
  return { ref: s.setNodeRef, style, handle };
}
